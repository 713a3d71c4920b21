#!/usr/bin/env bash
# Devices against a real server: its published description exercised by schemathesis (PyPI), and kill -9
# of server and database while a device posts: nothing that was acknowledged may be lost or doubled.
# Called by bin/test; needs the program built (target/debug).
set -euo pipefail
# Its forecast would come in the middle of a check.
export UPLAND_DEMO_SERVICE=false
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
. bin/lib/common.sh

work=$(mktemp -d)
chmod 755 "$work"
export UPLAND_KEY_FILE=$work/keys
server= device=
finish() {
    trap - EXIT
    [ -z "$device" ] || kill "$device" 2>/dev/null || true
    [ -z "$server" ] || kill "$server" 2>/dev/null || true
    stop_postgres
    rm -rf "$work"
}
trap finish EXIT
trap 'exit 130' INT TERM

start_server() {
    : >"$work/hello"
    UPLAND_DATABASE_URL=$PG_URL target/debug/upland-almanac serve --demo --port "${1:-0}" >"$work/hello" 2>>"$work/server.log" &
    server=$!
    for _ in $(seq 200); do
        url=$(sed -n 's/.*serves on //p' "$work/hello")
        [ -z "$url" ] || return 0
        sleep 0.1
    done
    die "the server did not start: $(tail -n 3 "$work/server.log")"
}

start_postgres "$work"
start_server
token=$(python3 tools/check/devices.py token "$url")

say "The description of the interface, by schemathesis ..."
venv=target/reference/schemathesis
[ -x "$venv/bin/schemathesis" ] || { python3 -m venv "$venv"; "$venv/bin/pip" install --quiet --disable-pip-version-check schemathesis==4.32.5; }
# A schema cannot say that a stamp is recent or a value possible, so that what fits it may still be
# refused with 422; all else is checked: no server error, answers as described, bad input refused.
described() {
    "$venv/bin/schemathesis" run "$url/api/v1/openapi.json" --header "Authorization: Bearer $1" "${@:2}" \
        --exclude-checks positive_data_acceptance --max-examples 60 --rate-limit 15/s --seed 7 --no-color >"$work/schemathesis.log" 2>&1 \
        || { tail -n 80 "$work/schemathesis.log" >&2; die "the interface differs from its description"; }
}
described "$token" --include-path /api/v1/readings --include-path /api/v1/time
described "$(python3 tools/check/devices.py reading-token "$url")" --exclude-path /api/v1/readings --exclude-path /api/v1/time

say "Every other route that answers a script or a file, by the same ..."
cookie=$(python3 tools/check/json_routes.py "$url" "$work")
"$venv/bin/schemathesis" run "$work/routes.json" --url "$url" --header "Cookie: $cookie" --max-examples 15 --seed 7 --no-color \
    --checks not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance >"$work/schemathesis.log" 2>&1 \
    || { tail -n 80 "$work/schemathesis.log" >&2; die "a route answers other than its description says"; }
grep -E "generated" "$work/schemathesis.log" || true

say "kill -9 of server and database while a device posts ..."
port=${url##*:}
python3 tools/check/devices.py post "$url" "$token" 400 60 >"$work/acknowledged" &
device=$!
sleep 2
kill -9 "$server"; wait "$server" 2>/dev/null || true
start_server "$port"
sleep 2
kill -0 "$device" || die "the device was done before the database was killed"
postmaster=$(as_postgres head -n 1 "$PG_DATA/postmaster.pid")
as_postgres kill -9 "$postmaster"
# A killed server that nobody has reaped yet still looks alive to pg_ctl, and its lock file stays.
for _ in $(seq 100); do
    state=$(awk '/^State/ { print $2 }' "/proc/$postmaster/status" 2>/dev/null || true)
    case "$state" in '' | Z) break ;; esac
    sleep 0.1
done
sleep 2
as_postgres rm -f "$PG_DATA/postmaster.pid"
PG_STARTED=
start_postgres "$work"
wait "$device"
device=
acknowledged=$(tail -n 1 "$work/acknowledged" | cut -d' ' -f2)
kept=$(psql "$PG_URL" -Atc "SELECT count(*) || ' ' || count(DISTINCT at) FROM sensor_readings WHERE channel = 'soil_pct' AND device_id IS NOT NULL AND at > app_now() - interval '31 days' AND at < app_now() - interval '29 days'")
[ "$acknowledged" = 24000 ] && [ "$kept" = "24000 24000" ] || die "acknowledged $acknowledged, kept (distinct) $kept"
say "All 24 000 acknowledged readings are there, none twice."

say "A frozen database: every page says so, none hangs ..."
postmaster=$(as_postgres head -n 1 "$PG_DATA/postmaster.pid")
python3 tools/check/devices.py frozen "$url" "$postmaster"

# Last: it changes whatever a form can.
say "Every form with its fields at the edges ..."
python3 tools/check/forms.py "$url"
