#!/usr/bin/env bash
# Server, worker and database killed with -9 at random while people save, devices post, files are taken in, visits are
# entered and searches asked for: what was acknowledged is kept, nothing is there twice, nothing "runs" for ever.
#
#   tools/check/crash.sh [SECONDS] [SEED]     needs the program built (target/debug)
#   tools/check/crash.sh again FOLDER         starts the database in a folder again; the check calls it
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
. bin/lib/common.sh
# Its forecast would come in the middle of a check.
export UPLAND_DEMO_SERVICE=false

if [ "${1:-}" = again ]; then
    PG_DATA=$(cat "$2/data")
    as_postgres rm -f "$PG_DATA/postmaster.pid"
    start_postgres "$2" >/dev/null
    exit 0
fi

work=$(mktemp -d)
chmod 755 "$work"
export UPLAND_KEY_FILE=$work/keys
finish() {
    trap - EXIT
    stop_postgres
    rm -rf "$work"
}
trap finish EXIT
trap 'exit 130' INT TERM
start_postgres "$work"
echo "$PG_DATA" >"$work/data"
python3 tools/check/crash.py "$work" "$PG_URL" "${1:-60}" "${2:-7}" || { tail -n 5 "$work"/*.log >&2; die "the crash check failed"; }
# It was started again by another shell than this one.
PG_STARTED=1
