#!/usr/bin/env bash
# Fuzzes each reader of crates/audio until it has had so many minutes of CPU
# time, one after the other: scripts/fuzz.sh [minutes] [reader…]
# Begins with the inputs of corpus/READER.zip, and leaves there the fewest that
# reach as much code, each of a few kilobytes: the tests read them too.
# Needs cargo-fuzz (cargo install cargo-fuzz), zip and unzip.
set -euo pipefail
cd "$(dirname "$0")/../crates/audio/fuzz"
minutes=${1:-30}
shift || true
readers=("$@")
[ ${#readers[@]} -gt 0 ] || readers=(wav aiff au mp3 ogg flac adts mp4 webm)

# Coverage is counted on any toolchain; the address sanitizer is not, and
# finds nothing in code without unsafe blocks that bounds checks do not.
[ -n "${BUILT:-}" ] || cargo fuzz build -s none --release
mkdir -p artifacts

keep() {
  local reader=$1 program=$2 most=2048
  case $reader in ogg | flac | mp4 | webm) most=4096 ;; esac
  rm -rf "corpus/$reader-least" "corpus/$reader.zip"
  mkdir "corpus/$reader-least"
  "$program" -set_cover_merge=1 -max_len=$most "corpus/$reader-least" "corpus/$reader" > "artifacts/$reader-merge.log" 2>&1
  # Neither times nor owners, so that the same inputs make the same file.
  find "corpus/$reader-least" -type f -exec touch -d 2026-01-01T00:00:00Z {} +
  find "corpus/$reader-least" -type f | LC_ALL=C sort | zip -q -X -9 -j "corpus/$reader.zip" -@
  rm -r "corpus/$reader-least"
}

for reader in "${readers[@]}"; do
  [ -d "corpus/$reader" ] || unzip -q "corpus/$reader.zip" -d "corpus/$reader"
  program=$(find . "${CARGO_TARGET_DIR:-.}" -path '*/release/*' -name "$reader" -type f -perm -u+x | head -1)
  spent=0
  while [ "$spent" -lt $((minutes * 60)) ]; do
    used=$( { TIMEFORMAT='%U'; time nice -n 19 "$program" \
      "corpus/$reader" -artifact_prefix="artifacts/$reader-" -max_total_time=60 -max_len=65536 -timeout=120 -rss_limit_mb=1024 \
      > "artifacts/$reader.log" 2>&1 || { echo "$reader failed: artifacts/$reader.log" >&2; exit 1; }; } 2>&1 | tail -1 || true)
    case $used in *failed*) echo "$used" >&2; exit 1 ;; esac
    spent=$((spent + ${used%.*}))
  done
  keep "$reader" "$program"
  last=$(grep -E '^#[0-9]+.*(DONE|pulse|NEW|REDUCE)' "artifacts/$reader.log" | tail -1)
  echo "$reader: $spent s of CPU, $(find "corpus/$reader" -type f | wc -l) inputs, $last"
done
