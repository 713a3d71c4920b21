#!/usr/bin/env python3
"""How long the logbook of a site with 100,000 entries takes, by page, words, kind, zone, person and time.

Fills a database of a running server with entries, then asks its pages and prints the median of each, in milliseconds,
as the server's own time and as a whole answer. The database must be one that may be thrown away.

Usage: python3 tools/bench/logbook.py URL DATABASE_URL [ENTRIES]
"""
import http.cookiejar
import re
import statistics
import subprocess
import sys
import time
import urllib.parse
import urllib.request

FILL = """
INSERT INTO events (site_id, actor, subject, subject_id, action, words, zone_id, at)
SELECT 1, (SELECT min(id) FROM users),
       (ARRAY['note','visit_entry','settings','zone_event','tick','sensor_event'])[1 + k % 6], k, 'created',
       (ARRAY['dry','right','wet','pump serviced','filter cleaned','head replaced'])[1 + k % 6] || ' entry ' || k || ' of the heather terrace',
       (SELECT id FROM zones WHERE site_id = 1 ORDER BY id OFFSET k % 5 LIMIT 1),
       app_now() - make_interval(mins => {count} - k)
FROM generate_series(1, {count}) k;
ANALYZE events;
"""
PAGES = {
    "newest": "",
    "common word": "q=heather",
    "two words": "q=pump+serv",
    "one entry": "q=77777",
    "none": "q=nothinglikeit",
    "kind": "kind=notes",
    "zone": "zone={zone}",
    "person": "person={person}",
    "a week": "from=2026-07-01&to=2026-07-07",
    "word, kind, zone": "q=filter&kind=ticks&zone={zone}",
}


def psql(database, sql):
    return subprocess.run(["psql", database, "-qtAc", sql], check=True, capture_output=True, text=True).stdout.strip()


def main():
    url, database = sys.argv[1], sys.argv[2]
    count = int(sys.argv[3]) if len(sys.argv) > 3 else 100_000
    psql(database, FILL.format(count=count))
    psql(database, "UPDATE sites SET revision = revision + 1 WHERE id = 1")
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
    page = opener.open(f"{url}/sign-in").read().decode()
    csrf = re.search(r'name="csrf" value="([^"]+)"', page).group(1)
    form = {"csrf": csrf, "login": "isla", "password": "larkrigg-demo"}
    opener.open(f"{url}/sign-in", urllib.parse.urlencode(form).encode()).read()
    zone = psql(database, "SELECT min(id) FROM zones WHERE site_id = 1")
    person = psql(database, "SELECT min(id) FROM users")
    print(f"{count} entries; median and worst of 40, ms")
    for name, query in PAGES.items():
        address = f"{url}/sites/1/logbook?{query.format(zone=zone, person=person)}"
        opener.open(address).read()
        took = []
        for _ in range(40):
            begin = time.perf_counter()
            opener.open(address).read()
            took.append(1000 * (time.perf_counter() - begin))
        print(f"{name:18} {statistics.median(took):7.1f} {max(took):7.1f}")


main()
