#!/bin/sh
# What touches a calendar, tested at what a calendar has, in three zones: the machine's own day, hour, zone
# and daylight saving change nothing. anyday.sh short tries one of them.
set -eu
go=${GO:-go}
log=$(mktemp)
trap 'rm -f "$log"' EXIT
quietly() { # what fails is told
	"$@" >"$log" 2>&1 || { cat "$log"; exit 1; }
}
if [ "${1:-}" = short ]; then
	TZ=America/St_Johns TEST_MOMENT=2027-03-28T01:30:00Z quietly "$go" test -count=1 ./internal/core/...
	exit
fi
for zone in Europe/Lisbon Pacific/Kiritimati America/St_Johns; do
	for at in 2026-11-30T00:05:00Z 2026-11-29T23:55:00Z 2027-03-28T00:30:00Z 2027-03-28T01:30:00Z 2026-10-25T00:30:00Z 2026-10-25T01:30:00Z \
		2028-02-29T12:00:00Z 2026-12-31T23:59:00Z; do
		echo "$zone, $at"
		TZ=$zone TEST_MOMENT=$at quietly "$go" test -count=1 ./internal/core/...
	done
	echo "$zone, recorders and cameras"
	TZ=$zone TEST_MOMENT=all quietly "$go" test -count=1 -run 'TestPredictedDaysAreKept|TestLocalTime' ./internal/standin/recorder ./internal/standin/localtime
done
