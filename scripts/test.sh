#!/bin/sh
# All tests: first what is quick, side by side; then the engine, which waits for devices most of the time
# and holds them to time limits, and beside it the pages, which wait patiently and give way to it.
# What is tested is an argument of go test's own: scripts/test.sh -run Name.
go=${GO:-go}
export GOGC="${GOGC:-400}" # as the product itself has it
failed=0
pages=$(mktemp)
trap 'rm -f "$pages"' EXIT
trap 'kill "$beside" 2>/dev/null; exit 1' INT TERM
# shellcheck disable=SC2046
"$go" test -p 4 -parallel 6 -timeout 30m "$@" $("$go" list ./... | grep -Ev '/internal/(engine|web)$') || failed=1
scripts/anyday.sh short || failed=1
nice -n 5 "$go" test -parallel 4 -timeout 40m "$@" duskyharbor/internal/web >"$pages" 2>&1 &
beside=$!
"$go" test -parallel 10 -timeout 40m "$@" duskyharbor/internal/engine || failed=1
wait "$beside" || failed=1
cat "$pages"
exit $failed
