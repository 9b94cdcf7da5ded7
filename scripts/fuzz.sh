#!/usr/bin/env bash
# Fuzzes each reader of crates/audio until it has had so many minutes of CPU
# time, one after the other: scripts/fuzz.sh [minutes] [reader…]
# Needs cargo-fuzz (cargo install cargo-fuzz) and the tools of `make test`.
set -euo pipefail
cd "$(dirname "$0")/../crates/audio/fuzz"
minutes=${1:-30}
shift || true
readers=("$@")
[ ${#readers[@]} -gt 0 ] || readers=(wav aiff au mp3 ogg flac adts mp4 webm)

seeds() {
  local folder sound="-n -r 16000 -c 1 -b 16"
  folder=$(mktemp -d)
  cd "$folder"
  sox $sound s.wav synth 0.3 sine 300 vol 0.3
  ffmpeg -v error -i s.wav -c:a libopus -f webm s.webm -c:a libopus s.opus -c:a aac -f adts s.aac -c:a aac s.m4a -c:a libopus -movflags frag_keyframe+empty_moov f.mp4
  sox s.wav s.aiff; sox s.wav s.au; sox s.wav -e float -b 32 f.wav; sox s.wav -e mu-law u.wav
  sox s.wav s.flac; flac -s --ogg -o s.oga s.wav; oggenc -Q s.wav -o s.ogg; lame -S s.wav s.mp3; lame -S -V 4 s.wav v.mp3
  cd - >/dev/null
  local reader file
  for reader in wav:wav aiff:aiff au:au mp3:mp3 ogg:opus ogg:oga ogg:ogg flac:flac adts:aac mp4:m4a mp4:mp4 webm:webm; do
    mkdir -p "corpus/${reader%%:*}"
    for file in "$folder"/*."${reader##*:}"; do
      # The first byte tells the size of the pieces.
      { printf '\040'; cat "$file"; } > "corpus/${reader%%:*}/seed-$(basename "$file")"
    done
  done
  rm -r "$folder"
}

[ -d corpus ] || seeds
# Coverage is counted on any toolchain; the address sanitizer is not, and
# finds nothing in code without unsafe blocks that bounds checks do not.
[ -n "${BUILT:-}" ] || cargo fuzz build -s none --release
for reader in "${readers[@]}"; do
  spent=0
  while [ "$spent" -lt $((minutes * 60)) ]; do
    used=$( { TIMEFORMAT='%U'; time nice -n 19 "$(find . -path '*/release/*' -name "$reader" -type f -perm -u+x | head -1)" \
      "corpus/$reader" -artifact_prefix="artifacts/$reader-" -max_total_time=60 -max_len=65536 -timeout=120 -rss_limit_mb=1024 \
      > "artifacts/$reader.log" 2>&1 || { echo "$reader failed: artifacts/$reader.log" >&2; exit 1; }; } 2>&1 | tail -1 || true)
    case $used in *failed*) echo "$used" >&2; exit 1 ;; esac
    spent=$((spent + ${used%.*}))
  done
  last=$(grep -E '^#[0-9]+.*(DONE|pulse|NEW|REDUCE)' "artifacts/$reader.log" | tail -1)
  echo "$reader: $spent s of CPU, $(find "corpus/$reader" -type f | wc -l) inputs, $last"
done
