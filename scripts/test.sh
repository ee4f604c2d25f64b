#!/bin/sh
# All tests: first what is quick, side by side; then the engine and the pages, each alone on the
# machine, since they hold real devices and browsers to time limits. What is tested is an argument
# of go test's own: scripts/test.sh -run Name.
go=${GO:-go}
heavy='/internal/(engine|web)$'
failed=0
# shellcheck disable=SC2046
"$go" test -p 4 -parallel 6 -timeout 30m "$@" $("$go" list ./... | grep -Ev "$heavy") || failed=1
scripts/anyday.sh short || failed=1
# The engine waits for devices most of the time; a browser takes the machine.
at_once() { case $1 in */engine) echo 10 ;; *) echo 4 ;; esac; }
for package in $("$go" list ./... | grep -E "$heavy"); do
	"$go" test -parallel "$(at_once "$package")" -timeout 40m "$@" "$package" || failed=1
done
exit $failed
