#!/usr/bin/env bash
# Installs the named Debian packages that are missing. Where it is not root it
# says what it would need.
set -euo pipefail

missing=()
for package in "$@"; do
  status=$(dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null || true)
  [ "$status" = installed ] || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0

if [ "$(id -u)" -ne 0 ]; then
  echo "These packages are missing: ${missing[*]}" >&2
  echo "Install them and run this again:  sudo apt-get install ${missing[*]}" >&2
  # Engines that are absent show as absent; only what the build needs is needed.
  for package in "${missing[@]}"; do
    case "$package" in espeak-ng | flite | pocketsphinx*) ;; *) exit 1 ;; esac
  done
  exit 0
fi

echo "Installing: ${missing[*]}" >&2
export DEBIAN_FRONTEND=noninteractive
apt-get update -qq
apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
