#!/usr/bin/env bash
# Without an account: an anonymous client sends every part of a request at its largest for a while; memory and log stay
# bounded, and the server lives. Then the database goes away and comes back: pages say so at once, and go on by themselves.
# Called by bin/test for a few seconds; for a whole minute:
#
#   tools/check/abuse.sh 60     needs the program built (target/debug)
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
. bin/lib/common.sh
export UPLAND_DEMO_SERVICE=false

work=$(mktemp -d)
chmod 755 "$work"
export UPLAND_KEY_FILE=$work/keys
server=
finish() {
    trap - EXIT
    [ -z "$server" ] || kill "$server" 2>/dev/null || true
    stop_postgres
    rm -rf "$work"
}
trap finish EXIT
trap 'exit 130' INT TERM

start_postgres "$work"
UPLAND_DATABASE_URL=$PG_URL target/debug/upland-almanac serve --demo --port 0 >"$work/hello" 2>"$work/server.log" &
server=$!
for _ in $(seq 200); do
    url=$(sed -n 's/.*serves on //p' "$work/hello")
    [ -z "$url" ] || break
    sleep 0.1
done
[ -n "$url" ] || die "the server did not start: $(tail -n 3 "$work/server.log")"

say "An anonymous client at its largest, ${1:-10} s ..."
python3 tools/check/abuse.py flood "$url" "$server" "$work/server.log" "${1:-10}"

say "The database goes away and comes back ..."
pg=$(postgres_bin)
as_postgres "$pg/pg_ctl" stop -D "$PG_DATA" -m immediate -s
python3 tools/check/abuse.py gone "$url" "$work/server.log"
start_postgres "$work"
python3 tools/check/abuse.py back "$url"
