#!/usr/bin/env python3
"""How long the work of an hour takes that every site needs: its account, night, checks, percentages and notices.

Fills the database of a demo with copies of its first site, each with the whole of its weather, moves the clock on by an
hour, and lets one worker, then two, work them all out. The database must be one that may be thrown away, with no other
worker at it; the demo must be loaded. Prints seconds, sites a second, and what each worker took of the machine.

Usage: python3 tools/bench/night.py target/release/upland-almanac DATABASE_URL [SITES ...]
"""
import os
import resource
import subprocess
import sys
import time

BINARY, DATABASE = sys.argv[1:3]
SIZES = [int(n) for n in sys.argv[3:]] or [500, 2000]

# Rows of a site in every table that has them; what is named by a row of its own gets another number.
COPY = """
DO $$
DECLARE old BIGINT; new BIGINT; made BIGINT; source BIGINT;
BEGIN
  FOR turn IN 1..{count} LOOP
    INSERT INTO sites (revision, weather_version) SELECT revision, weather_version FROM sites WHERE id = 1 RETURNING id INTO new;
    INSERT INTO site_versions
      SELECT r.* FROM site_versions v, jsonb_populate_record(v, jsonb_build_object('site_id', new, 'name', 'Copy ' || new)) r
      WHERE v.site_id = 1;
    FOR old IN SELECT id FROM controllers WHERE site_id = 1 LOOP
      INSERT INTO controllers (site_id, number) SELECT new, number FROM controllers WHERE id = old RETURNING id INTO made;
      INSERT INTO controller_versions
        SELECT r.* FROM controller_versions v, jsonb_populate_record(v, jsonb_build_object('controller_id', made)) r
        WHERE v.controller_id = old;
      INSERT INTO settings_versions
        SELECT r.* FROM settings_versions v, jsonb_populate_record(v, jsonb_build_object('controller_id', made)) r
        WHERE v.controller_id = old;
    END LOOP;
    FOR old IN SELECT id FROM zones WHERE site_id = 1 AND removed_at IS NULL LOOP
      made := nextval(pg_get_serial_sequence('zones', 'id'));
      INSERT INTO zones OVERRIDING SYSTEM VALUE
        SELECT r.* FROM zones z, jsonb_populate_record(z, jsonb_build_object('id', made, 'site_id', new)) r WHERE z.id = old;
      INSERT INTO zone_versions
        SELECT r.* FROM zone_versions v, jsonb_populate_record(v, jsonb_build_object('zone_id', made)) r WHERE v.zone_id = old;
    END LOOP;
    FOR old IN SELECT id FROM weather_imports WHERE site_id = 1 AND undone_at IS NULL LOOP
      SELECT s.id INTO source FROM weather_sources s JOIN weather_sources o ON o.kind = s.kind AND o.name = s.name
        JOIN weather_imports i ON i.source_id = o.id WHERE i.id = old AND s.site_id = new;
      IF source IS NULL THEN
        INSERT INTO weather_sources (site_id, kind, name, saved_by)
          SELECT new, s.kind, s.name, s.saved_by FROM weather_sources s JOIN weather_imports i ON i.source_id = s.id WHERE i.id = old
          RETURNING id INTO source;
      END IF;
      made := nextval(pg_get_serial_sequence('weather_imports', 'id'));
      INSERT INTO weather_imports OVERRIDING SYSTEM VALUE
        SELECT r.* FROM weather_imports i,
          jsonb_populate_record(i, jsonb_build_object('id', made, 'site_id', new, 'source_id', source)) r WHERE i.id = old;
      INSERT INTO weather_days
        SELECT r.* FROM weather_days d, jsonb_populate_record(d, jsonb_build_object('import_id', made, 'site_id', new)) r
        WHERE d.import_id = old;
      INSERT INTO weather_hours
        SELECT r.* FROM weather_hours h, jsonb_populate_record(h, jsonb_build_object('import_id', made, 'source_id', source)) r
        WHERE h.import_id = old;
    END LOOP;
  END LOOP;
END $$;
ANALYZE;
"""


def ask(sql):
    done = subprocess.run(["psql", "-qAtX", "-v", "ON_ERROR_STOP=1", DATABASE, "-c", sql], capture_output=True, text=True)
    if done.returncode:
        sys.exit(done.stderr)
    return done.stdout.strip()


def due():
    return int(ask("SELECT count(*) FROM sites s LEFT JOIN rounds r ON r.site_id = s.id WHERE s.removed_at IS NULL AND "
                   "(r.site_id IS NULL OR date_trunc('hour', r.at) <> date_trunc('hour', app_now()))"))


def next_hour():
    """The first minute of the next hour, so that none ends while it is measured."""
    ask("UPDATE clock SET ahead_seconds = ahead_seconds + 3660 - (extract(epoch FROM app_now())::bigint % 3600)")
    # Whether the notices of an hour are old is asked for by the look of a worker, once a minute.
    ask("DELETE FROM work._private_jobs")
    ask("SELECT count(work.add_job('round', json_build_object('of', id), NULL, NULL, 3, 'round ' || id, 10, NULL, 'replace')) FROM sites WHERE removed_at IS NULL")


def work(workers):
    next_hour()
    sites = due()
    env = dict(os.environ, RUST_LOG="warn")
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    begun = time.monotonic()
    running = [subprocess.Popen([BINARY, "worker", "--at-once", "1", "--database-url", DATABASE], env=env, stdout=subprocess.DEVNULL) for _ in range(workers)]
    while due():
        time.sleep(0.2)
    took = time.monotonic() - begun
    for worker in running:
        worker.terminate()
    for worker in running:
        worker.wait()
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    failed = ask("SELECT count(*) FROM work.jobs WHERE last_error IS NOT NULL")
    print(f"{sites:5} sites, {workers} worker{'s' * (workers > 1)}: {took:6.1f} s, {sites / took:6.1f} sites a second, "
          f"{1000 * cpu / sites:5.1f} ms of a core a site, {after.ru_maxrss // 1024} MB at most, {failed} failed", flush=True)


for size in SIZES:
    there = int(ask("SELECT count(*) FROM sites WHERE removed_at IS NULL"))
    if size > there:
        begun = time.monotonic()
        ask(COPY.format(count=size - there))
        print(f"{size} sites of {ask('SELECT count(*) FROM weather_days')} days and "
              f"{ask('SELECT count(*) FROM weather_hours')} days of hours in all, filled in {time.monotonic() - begun:.0f} s", flush=True)
    work(1)
    work(1)
    work(2)
