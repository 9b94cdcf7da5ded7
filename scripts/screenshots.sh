#!/usr/bin/env bash
# Takes the pictures of docs/screenshots: the console in headless Chromium, and
# a terminal in a window under Xvfb.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/packages.sh chromium chromium-driver xvfb xterm imagemagick fonts-dejavu-core fonts-noto-core fonts-noto-cjk

cargo test --locked -p dispatcher-e2e --test all screenshots:: -- --ignored

binary=$PWD/target/debug/dispatcher-under-test
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; rm -rf "$work"' EXIT

display=:$((RANDOM % 400 + 100))
Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
export DISPLAY=$display
sleep 2

# terminal NAME SECONDS COMMAND: runs the command in a window and takes a picture.
terminal() {
  local name=$1 seconds=$2 command=$3
  xterm -geometry 156x45+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#14201F' -fg '#E9E4D6' -b 12 \
    -e bash -c "$command; sleep $seconds" &
  local window=$!
  sleep "$seconds"
  import -window root "docs/screenshots/$name.png"
  kill "$window" 2>/dev/null || true
  wait "$window" 2>/dev/null || true
}

bin=$work/bin
mkdir -p "$bin"
ln -s "$binary" "$bin/dispatcher"
export PATH=$bin:$PATH
cd "$work"
ln -s "$OLDPWD/docs" docs
ln -s "$OLDPWD/demo" demo

terminal terminal-demo-once 12 'echo "\$ dispatcher demo --once -o ferries"; dispatcher demo --once -o ferries'

terminal terminal-lint 6 'echo "\$ dispatcher lint demo/scripts/boarding.ssml --sheets demo/sheets"; dispatcher lint demo/scripts/boarding.ssml --sheets demo/sheets'

dispatcher demo --port 0 --data data/demo >demo.log 2>&1 &
until grep -q Ctrl-C demo.log; do sleep 1; done
. data/demo/demo.env
export DISPATCHER_URL DISPATCHER_KEY
statement='dispatcher statement reconcile heron data/demo/heron-statement.csv'
usage='dispatcher usage --by app,engine'
terminal terminal-statement 6 "echo '\$ $statement'; $statement 2>/dev/null; echo; echo; echo '\$ $usage'; $usage"
