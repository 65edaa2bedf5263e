#!/usr/bin/env bash
# Issues and ends a pass against stand-in clouds with 50,000 groups in 1,000 accounts, and says how long each took. It
# reads one account and those peered with it, not the estate.
#   bench/pass.sh [FOLDER]
set -euo pipefail
cd "$(dirname "$0")/.."
folder=${1:-$(mktemp -d)}
mkdir -p "$folder"
program=$folder/isonomos
CGO_ENABLED=0 go build -o "$program" ./cmd/isonomos
[ -e "$folder/large" ] || "$program" sandbox generate --accounts 1000 --groups 50000 --rules 250000 --seed 7 "$folder/large"
rm -rf "$folder/clouds" "$folder/estate" && mkdir -p "$folder/estate"
"$program" sandbox run "$folder/clouds" --survey "$folder/large/survey.jsonl.zst" 2>"$folder/served" &
trap 'kill $!' EXIT
until grep -q serving "$folder/served"; do sleep 0.2; done
. "$folder/clouds/env"
cd "$folder/estate"
cat >large.nomos <<'NOMOS'
estate large
cloud northmere { dialect union
  at env NORTHMERE_URL
  token env NORTHMERE_TOKEN }
account tides-0001 { cloud northmere }
network quay10 in tides-0001 { range 10.0.0.0/16 }
group night in quay10 "Doors at night" { cover instance tides-1-door-2
  admit https from everyone
  lend ssh to 203.0.113.0/24 for at most 1h because "on call" }
NOMOS
"$program" draft >/dev/null
"$program" enact >/dev/null
for _ in 1 2 3; do
  time "$program" pass issue night --to 203.0.113.9 --because "figures"
  time "$program" pass end --all
done
