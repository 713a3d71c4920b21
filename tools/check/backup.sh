#!/usr/bin/env bash
# A backup of a demo that has photographs, readings and waiting work, taken while it serves, brought back into an empty
# database: every table is compared row by row. Called by bin/test; needs the program built (target/debug).
set -euo pipefail
# Its forecast would come in the middle of a check.
export UPLAND_DEMO_SERVICE=false
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
. bin/lib/common.sh

work=$(mktemp -d)
chmod 755 "$work"
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
UPLAND_KEY_FILE=$work/keys UPLAND_DATABASE_URL=$PG_URL target/debug/upland-almanac serve --demo --port 0 --at-once 0 >"$work/hello" 2>>"$work/server.log" &
server=$!
for _ in $(seq 200); do
    grep -q 'serves on' "$work/hello" && break
    sleep 0.1
done
psql "$PG_URL" -q <<'SQL'
INSERT INTO photos (site_id, visit_id, kind, about, said_by, client_key, jpeg, width, height)
SELECT site_id, id, 'site', 0, (SELECT min(id) FROM users), 'kept', decode(repeat('00ff', 40000), 'hex'), 4, 3 FROM visits LIMIT 1;
SELECT readings_month('2026-07-14 12:00+00');
INSERT INTO sensor_readings (sensor_id, channel, at, value)
SELECT id, 'rain_mm', '2026-07-14 12:00+00'::timestamptz - n * interval '10 minutes', n / 7.0 FROM sensors, generate_series(1, 500) n;
SELECT work.add_job('sweep', '{"of": 0}', run_at => now() + interval '1 day') IS NOT NULL;
SQL

# A line for each table: its rows and what they are, whatever their order.
tables() {
    psql "$1" -At <<'SQL'
SELECT format('SELECT %L, count(*), md5(COALESCE(string_agg(md5(t::text), '''' ORDER BY md5(t::text)), '''')) FROM %I.%I t',
              n.nspname || '.' || c.relname, n.nspname, c.relname)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p') AND n.nspname IN ('public', 'work') ORDER BY 1
\gexec
SQL
}

say "A backup while it serves ..."
mkdir "$work/photos"
head -c 20000 /dev/urandom >"$work/photos/kept.jpg"
UPLAND_DATABASE_URL=$PG_URL UPLAND_PHOTO_FOLDER=$work/photos bin/backup "$work/backup"
kill "$server"; wait "$server" 2>/dev/null || true; server=
psql "$PG_ADMIN_URL" -qc 'CREATE DATABASE restored'
restored=${PG_URL%/upland}/restored
if UPLAND_DATABASE_URL=$restored bin/restore "$work/backup" 2>"$work/refusal"; then die "photographs were left behind"; fi
grep -q 'UPLAND_PHOTO_FOLDER where it goes' "$work/refusal" || die "the refusal does not say what to do: $(cat "$work/refusal")"
export UPLAND_PHOTO_FOLDER=$work/again
UPLAND_DATABASE_URL=$restored bin/restore "$work/backup"
cmp "$work/photos/kept.jpg" "$work/again/kept.jpg"
tables "$PG_URL" >"$work/before"; tables "$restored" >"$work/after"
# Sessions of workers come and go; nothing else may differ.
diff <(grep -v '^work\._private_workers' "$work/before") <(grep -v '^work\._private_workers' "$work/after") \
    || die "what was brought back is not what was there"
grep -q '^public.photos|[1-9]' "$work/after" || die "no photograph came back"
rm -r "$work/again"
if UPLAND_DATABASE_URL=$restored bin/restore "$work/backup" 2>"$work/refusal"; then die "a full database was restored into"; fi
head -c 3000 "$work/backup" >"$work/broken"
if UPLAND_DATABASE_URL=$restored bin/restore "$work/broken" 2>/dev/null; then die "a broken backup was brought back"; fi
grep -q 'empty one only' "$work/refusal" || die "the refusal does not say why: $(cat "$work/refusal")"
UPLAND_DATABASE_URL=$restored target/debug/upland-almanac migrate
say "$(wc -l <"$work/after") tables came back as they were, $(grep -c '|[1-9]' "$work/after") of them with rows."
