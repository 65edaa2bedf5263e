#!/usr/bin/env bash
# Watches stand-in clouds with 50,000 groups in 1,000 accounts, and says what that takes: until everything is judged for
# the first time, at rest, and while 200 changes a second are made in 100 accounts. All of it runs on this machine.
#   bench/uphold.sh [FOLDER]
set -euo pipefail
cd "$(dirname "$0")/.."
folder=${1:-$(mktemp -d)}
mkdir -p "$folder"
program=$folder/isonomos
CGO_ENABLED=0 go build -o "$program" ./cmd/isonomos
go build -o "$folder/changes" ./bench/changes
[ -e "$folder/large" ] || "$program" sandbox generate --accounts 1000 --groups 50000 --rules 500000 --seed 7 "$folder/large"
rm -rf "$folder/clouds" "$folder/estate" && mkdir -p "$folder/estate"
"$program" sandbox run "$folder/clouds" --survey "$folder/large/survey.jsonl.zst" 2>"$folder/served" &
sandbox=$!
trap 'kill $sandbox ${watch:-} 2>/dev/null' EXIT
until grep -q serving "$folder/served"; do sleep 0.2; done
. "$folder/clouds/env"
cp "$folder/large/laws.nomos" "$folder/estate/"
for cloud in northmere:union easthold:ranked westing:layered southfleet:flat; do
  name=${cloud%:*}
  printf 'cloud %s { dialect %s\n  at env %s_URL\n  token env %s_TOKEN }\n' "$name" "${cloud#*:}" "${name^^}" "${name^^}"
done >"$folder/estate/clouds.nomos"
at=127.0.0.1:9489
takes() { ps -o rss=,cputime= -p "$watch" | awk -v what="$1" '{printf "%s: %d MB, %s of processor time so far\n", what, $1/1024, $2}'; }
began=$(date +%s)
"$program" uphold --estate "$folder/estate" --listen "$at" >"$folder/watch.out" 2>"$folder/watch.log" &
watch=$!
until [ "$(curl -s "$at/readyz")" = ok ]; do sleep 0.5; done
echo "everything was judged for the first time after $(($(date +%s) - began)) s"
takes "then"
sleep 75 # after a minute all accounts are judged once more, by who turned out to be no stranger
takes "after they were judged once more"
sleep 60
takes "after a minute at rest"
"$folder/changes" -rate 200 -for 60s -accounts 100 "$folder/clouds"
sleep 10
takes "after these changes"
curl -s "$at/metrics" | grep '^isonomos_decision_seconds'
