#!/usr/bin/env bash
# Without an account: an anonymous client sends every part of a request at its largest for a while; memory and log stay
# bounded, and the server lives. With one: the largest uploads, pictures, passwords and posts, all at once, stay under the
# ceiling of the service file. Then the disk of the database fills up, and the database goes away and comes back: pages say
# so at once, and go on by themselves. Called by bin/test for a few seconds each; for a whole minute:
#
#   tools/check/abuse.sh 60     needs the program built (target/debug)
#
# The disk that fills up is a file system in memory, so it is checked where one may be mounted (root, outside a container).
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
. bin/lib/common.sh
export UPLAND_DEMO_SERVICE=false

work=$(mktemp -d)
chmod 755 "$work"
export UPLAND_KEY_FILE=$work/keys
server=
mkdir -m 755 "$work/disk"
own_disk=no
if as_root mount -t tmpfs -o size=500m,mode=755 tmpfs "$work/disk" 2>/dev/null; then own_disk=yes; fi
finish() {
    trap - EXIT
    [ -z "$server" ] || { kill "$server" && wait "$server"; } 2>/dev/null || true
    stop_postgres
    [ "$own_disk" = no ] || as_root umount "$work/disk" || true
    rm -rf "$work"
}
trap finish EXIT
trap 'exit 130' INT TERM

start_postgres "$work/disk"
UPLAND_DATABASE_URL=$PG_URL target/debug/upland-almanac serve --demo --port 0 >"$work/hello" 2>"$work/server.log" &
server=$!
for _ in $(seq 200); do
    url=$(sed -n 's/.*serves on //p' "$work/hello")
    [ -z "$url" ] || break
    sleep 0.1
done
[ -n "$url" ] || die "the server did not start: $(tail -n 3 "$work/server.log")"

python3 tools/check/abuse.py sign-in "$url" "$work/cookie"
say "An anonymous client at its largest, ${1:-10} s ..."
python3 tools/check/abuse.py flood "$url" "$server" "$work/server.log" "${1:-10}"

say "With an account, everything that is large at once, ${1:-15} s ..."
python3 tools/check/abuse.py load "$url" "$work/cookie" "$server" docs/upland-almanac.service "${1:-15}"

if [ "$own_disk" = yes ]; then
    say "The disk of the database fills up, and has room again ..."
    as_postgres dd if=/dev/zero of="$PG_DATA/filler" bs=1M count=600 2>/dev/null || true
    python3 tools/check/abuse.py full "$url" "$work/cookie" "$work/server.log"
    as_postgres rm "$PG_DATA/filler"
    python3 tools/check/abuse.py room "$url" "$work/cookie"
else
    say "NOT CHECKED: a full disk, since no file system may be mounted here."
fi

say "The database goes away and comes back ..."
pg=$(postgres_bin)
as_postgres "$pg/pg_ctl" stop -D "$PG_DATA" -m immediate -s
python3 tools/check/abuse.py gone "$url" "$work/server.log"
start_postgres "$work/disk"
python3 tools/check/abuse.py back "$url"
