#!/bin/sh
# steady.sh N runs the tests N times, every third run beside a busy core, and says how
# long each took and what failed. It exits with 1 where any run failed.
set -u
n=$1
cd "$(dirname "$0")/.."
logs=$(mktemp -d)
failed=0
busy=""
trap '[ -n "$busy" ] && kill "$busy"; exit 1' INT TERM # no busy core is left behind
i=1
while [ "$i" -le "$n" ]; do
  busy=""
  beside=""
  if [ $((i % 3)) = 0 ]; then
    sh -c 'while :; do :; done' &
    busy=$!
    beside=", beside a busy core"
  fi
  began=$(date +%s)
  if GOFLAGS="-buildvcs=false -count=1" make test >"$logs/$i.log" 2>&1; then how="green"; else how="FAILED"; failed=1; fi
  [ -n "$busy" ] && kill "$busy"
  echo "run $i$beside: $how, $(($(date +%s) - began)) s"
  grep -E '^(--- FAIL|panic:|FAIL)|_test\.go:[0-9]+: ' "$logs/$i.log"
  i=$((i + 1))
done
echo "the logs are in $logs"
exit $failed
