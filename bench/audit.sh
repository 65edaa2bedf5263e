#!/usr/bin/env bash
# Audits generated surveys of 10,000, 100,000 and 1,000,000 rules, and beside it lets jq merely
# pick the rules open to everyone out of the same file. Each runs by turns; the fastest run of
# each counts, since what else the machine does only ever makes a run slower.
#   bench/audit.sh [FOLDER [RUNS]]    FOLDER keeps the surveys for the next time (280 MB)
# It needs jq and GNU time (Debian: jq, time).
set -euo pipefail
cd "$(dirname "$0")/.."
folder=${1:-$(mktemp -d)} runs=${2:-3}
mkdir -p "$folder"
program=$folder/isonomos
CGO_ENABLED=0 go build -o "$program" ./cmd/isonomos
pick='select(.kind == "rule" and .direction == "in" and (.peers | any(. == "0.0.0.0/0" or . == "::/0")))'

# fastest COMMAND...: the seconds and the peak of memory (MB) of its fastest run so far.
measure() { # file, command...
  local file=$1; shift
  /usr/bin/time -o "$file.now" -f '%e %M' "$@" >/dev/null 2>&1 || [ $? -eq 1 ] # 1: there are findings
  tail -1 "$file.now" >>"$file"
}
best() { sort -n "$1" | head -1; }

printf '%10s %8s %9s %10s %9s %8s\n' rules MB audit jq share peak
for rules in 10000 100000 1000000; do
  size=$folder/$rules
  [ -e "$size/survey.jsonl" ] || "$program" sandbox generate --accounts $((rules / 500)) --groups $((rules / 10)) \
    --instances $((rules / 5)) --rules $rules --seed 7 --pack none "$size" 2>/dev/null
  rm -f "$size".*.times
  for _ in $(seq "$runs"); do
    measure "$size.audit.times" "$program" audit --state found --survey "$size/survey.jsonl" --by cloud
    measure "$size.jq.times" jq -c "$pick" "$size/survey.jsonl"
  done
  read -r seconds peak <<<"$(best "$size.audit.times")"
  read -r jq _ <<<"$(best "$size.jq.times")"
  printf '%10s %8s %8.2fs %9.2fs %8.0f%% %6dMB\n' "$rules" "$(($(stat -c %s "$size/survey.jsonl") / 1000000))" "$seconds" "$jq" \
    "$(awk "BEGIN { print 100 * $seconds / $jq }")" $((peak / 1024))
done
