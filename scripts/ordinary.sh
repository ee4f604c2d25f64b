#!/bin/sh
# ordinary.sh runs the tests that depend on who runs them as a user without rights: the
# database's start, the stand-ins, the finding, pages in a browser. Where
# it isn't root itself it has nothing to add: make test ran as such a user already.
set -eu
[ "$(id -u)" = 0 ] || exit 0
cd "$(dirname "$0")/.."
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
go build -o "$dir/withpg" ./internal/testbed/withpg
mkdir "$dir/tree" "$dir/home" "$dir/tmp"
git archive HEAD | tar -x -C "$dir/tree"
cat >"$dir/all" <<'END'
# Side by side: most of them wait for devices most of the time.
failed=0
one() { # a package, what of it
  package=$1
  shift
  (cd "$TREE/$package" && ./of.test -test.timeout 20m -test.parallel 8 "$@" >of.log 2>&1) || { echo "$package:"; cat "$TREE/$package/of.log"; return 1; }
}
jobs=""
one internal/pgserver & jobs="$jobs $!"
one internal/device/discovery & jobs="$jobs $!"
# Of the stand-ins what opens ports, joins groups, keeps files or runs programs.
one internal/standin/camera -test.run 'Tokens|PullPoints|Declared|Restart|OverUDP|OverTLS|Group|FFprobe' & jobs="$jobs $!"
one internal/standin/recorder -test.run 'Restart|Hangs|Pegged|Account|Kept$|Asks$|PlanAsks' & jobs="$jobs $!"
one internal/engine -test.run TestFromNotFoundToProven & jobs="$jobs $!"
one internal/web -test.run 'TestAStageIsAddedByRegisteringIt|TestUpdatesTakeNothingFromUnderAHand' & jobs="$jobs $!"
for job in $jobs; do
  wait "$job" || failed=1
done
exit $failed
END
for package in $(sed -n 's/^one \([^ ]*\).*/\1/p' "$dir/all"); do
  go test -c -o "$dir/tree/$package/of.test" "./$package"
done
chown -R 65534:65534 "$dir"
HOME=$dir/home TMPDIR=$dir/tmp TREE=$dir/tree setpriv --reuid=65534 --regid=65534 --clear-groups "$dir/withpg" sh "$dir/all"
