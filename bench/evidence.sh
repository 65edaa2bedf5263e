#!/usr/bin/env bash
# Reads flows and packets side by side with common tools, on files that it makes itself.
# Usage: bench/evidence.sh [RECORDS [PACKETS]]; needs sqlite3, tcpdump and tshark.
set -euo pipefail
cd "$(dirname "$0")/.."
records=${1:-5000000} packets=${2:-1000000}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/isonomos" ./cmd/isonomos
go run ./bench/make "$work" "$records" "$packets"
cd "$work"
best() { # the fastest of three, in seconds
  local least=
  for _ in 1 2 3; do
    local from to
    from=$(date +%s%N); eval "$1" >/dev/null 2>&1; to=$(date +%s%N)
    local took=$(( (to - from) / 1000000 ))
    if [ -z "$least" ] || [ "$took" -lt "$least" ]; then least=$took; fi
  done
  printf '%-28s %8d ms\n' "$2" "$least"
}
ls -l flows.csv packets.pcap | awk '{print $9, int($5/1000000) " MB"}'
echo "$records flows:"
best './isonomos narrow subject --estate estate --flows flows.csv --format json' 'isonomos narrow'
best 'rm -f s.db; ./isonomos flows add --store s.db flows.csv' 'isonomos flows add'
best 'cut -d, -f3,4,5,7 flows.csv | sort | uniq -c' 'cut | sort | uniq -c'
best 'rm -f q.db; sqlite3 q.db ".mode csv" ".import flows.csv f" "select src,dst,protocol,dst_port,count(*) from f group by 1,2,3,4"' 'sqlite3'
echo "$packets packets:"
best './isonomos narrow subject --estate estate --flows packets.pcap --format json' 'isonomos narrow'
best 'tcpdump -n -r packets.pcap' 'tcpdump -r, to nothing'
best 'tcpdump -r packets.pcap -w /dev/null' 'tcpdump -r -w /dev/null'
best 'tshark -n -r packets.pcap -q -z conv,tcp' 'tshark conversations'
