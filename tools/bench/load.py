#!/usr/bin/env python3
"""A running server under load: what its pages take meanwhile, whether anything fails, what memory it takes.

load.py readings URL DATABASE_URL [RATE] [SECONDS] [DEVICES]   devices, each at a site of its own, post RATE readings a
                                                  second (5000); pages beside them. Fill the database by night.py first
load.py attack URL [SECONDS]                      fifty clients guess passwords; pages beside them
load.py users URL [USERS] [SECONDS]               people over every chapter, one page after another, a second between
load.py year URL DATABASE_URL [DEVICES]           pages before and after a year of devices is in the database (100)

Give it a demo that may be filled, and a release build. Pages are asked as a browser does, over connections that stay open;
times are whole answers, in milliseconds. The standard library, psql for `year`, and /proc for the server's memory.
"""
import http.client
import json
import os
import random
import re
import subprocess
import sys
import threading
import time
import urllib.parse

WHAT, URL = sys.argv[1], urllib.parse.urlparse(sys.argv[2])
SITE_PAGES = ["today", "zones", "zones/1", "zones/1/season", "controllers/1", "controllers/1/sheet", "controllers/1/budget", "sensors", "sensors/1",
              "sensors/map", "weather", "trial", "tuning", "logbook", "visit", "edit", "sheet"]
EVERYWHERE = ["/", "/calls", "/notices", "/cards", "/ordinances", "/glossary", "/find.json?words=lawn"]
PAGES = EVERYWHERE + [f"/sites/1/{page}" for page in SITE_PAGES] + ["/sites/2/today", "/sites/3/today", "/sites/2/controllers/1"]


class Client:
    """Somebody with a browser: cookies, and a connection that stays open."""

    def __init__(self):
        self.connection, self.cookies = None, {}

    def ask(self, path, body=None, headers=None):
        send = dict(headers or {})
        send["cookie"] = "; ".join(f"{name}={value}" for name, value in self.cookies.items())
        for last in (False, True):
            try:
                if self.connection is None:
                    self.connection = http.client.HTTPConnection(URL.hostname, URL.port, timeout=60)
                self.connection.request("POST" if body is not None else "GET", path, body, send)
                answer = self.connection.getresponse()
                text = answer.read()
                break
            except (OSError, http.client.HTTPException):
                # One that the server closed meanwhile is opened again.
                self.connection = None
                if last:
                    return 0, b""
        for cookie in answer.headers.get_all("set-cookie") or []:
            name, value = cookie.split(";")[0].split("=", 1)
            self.cookies[name] = value
        return answer.status, text

    def token(self, path):
        return re.search(rb'name="csrf" value="([^"]+)"', self.ask(path)[1]).group(1).decode()

    def form(self, path, fields):
        return self.ask(path, urllib.parse.urlencode(fields), {"content-type": "application/x-www-form-urlencoded"})

    def sign_in(self, login="bram", password="larkrigg-demo"):
        return self.form("/sign-in", {"csrf": self.token("/sign-in"), "login": login, "password": password})[0]


def memory_mb():
    """What the processes of the program take now, and what they took at most."""
    now = most = 0
    for pid in filter(str.isdigit, os.listdir("/proc")):
        try:
            with open(f"/proc/{pid}/status", encoding="utf-8") as status:
                text = status.read()
        except OSError:
            continue
        if text.startswith("Name:\tupland-almanac"):
            now += int(re.search(r"VmRSS:\s+(\d+)", text).group(1)) // 1024
            most += int(re.search(r"VmHWM:\s+(\d+)", text).group(1)) // 1024
    return now, most


def spread(times):
    times = sorted(times)
    at = lambda share: 1000 * times[min(len(times) - 1, int(share * len(times)))][0]  # noqa: E731
    slow = {}
    for took, path in times[int(0.99 * len(times)):]:
        slow[path] = slow.get(path, 0) + 1
    slow = ", ".join(f"{path} {count}" for path, count in sorted(slow.items(), key=lambda one: -one[1])[:4])
    return (f"{len(times):6} pages, median {at(0.5):6.1f}, 95 % {at(0.95):6.1f}, 99 % {at(0.99):6.1f}, "
            f"worst {1000 * times[-1][0]:6.0f} ms (slowest: {slow})")


def pages(seconds, users=4, pause=0.05, warm=True):
    """People ask pages for so long; times, and what was not answered well."""
    times, faults, lock = [], [], threading.Lock()
    # One address may not sign in fifty times a minute: they share a session, as the windows of one browser do.
    first = Client()
    if first.sign_in() != 303:
        return [(0.0, "/sign-in")], ["no sign-in"]
    until = time.monotonic() + seconds

    def somebody(number):
        client, chance = Client(), random.Random(number)
        client.cookies = dict(first.cookies)
        if warm:
            for path in PAGES:
                client.ask(path)
        while time.monotonic() < until:
            path = chance.choice(PAGES)
            begun = time.monotonic()
            status, text = client.ask(path)
            took = time.monotonic() - begun
            with lock:
                times.append((took, path))
                if status != 200:
                    faults.append(f"{path}: {status}")
            time.sleep(pause * chance.uniform(0.5, 1.5))

    threads = [threading.Thread(target=somebody, args=(n,)) for n in range(users)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return times, faults


def told(name, result):
    times, faults = result
    print(f"{name:34}{spread(times)}, {len(faults)} failed {sorted(set(faults))[:3]}", flush=True)


def psql(database, sql):
    done = subprocess.run(["psql", "-qAtX", "-v", "ON_ERROR_STOP=1", database, "-c", sql], capture_output=True, text=True)
    if done.returncode:
        sys.exit(done.stderr)
    return done.stdout.strip().split("\n")


# A sensor with a device at each of some sites; its token is its number.
DEVICES = """
WITH site AS (SELECT id, row_number() OVER (ORDER BY id DESC) AS n FROM sites WHERE removed_at IS NULL ORDER BY id DESC LIMIT {count}),
made AS (INSERT INTO sensors (site_id, installed_on) SELECT id, '2026-01-01' FROM site RETURNING id, site_id),
versions AS (INSERT INTO sensor_versions (sensor_id, version, body, saved_by)
    SELECT m.id, 1, v.body, v.saved_by FROM made m, sensor_versions v WHERE v.sensor_id = 2 AND v.version = 1 RETURNING sensor_id)
INSERT INTO sensor_devices (sensor_id, name, token_hash, made_by)
SELECT sensor_id, 'load', sha256(('load' || sensor_id)::bytea), 1 FROM versions RETURNING sensor_id
"""


def settle(database):
    """Waits until workers have done what such a change of everything makes due."""
    stale = "SELECT count(*) FROM sites s LEFT JOIN rounds r ON r.site_id = s.id WHERE s.removed_at IS NULL AND r.revision IS DISTINCT FROM s.revision"
    for _ in range(300):
        if psql(database, stale) == ["0"]:
            return
        time.sleep(1)
    sys.exit("the work of the change was not done in five minutes")


def readings(rate=5000, seconds=60, devices=100):
    database = sys.argv[3]
    sensors = psql(database, DEVICES.format(count=devices))
    sites = psql(database, f"SELECT site_id FROM sensors WHERE id IN ({','.join(sensors)})")
    psql(database, "UPDATE sites SET revision = revision + 1")
    settle(database)
    PAGES.extend(f"/sites/{site}/today" for site in sites[:20])
    told("pages alone", pages(20))
    posting = subprocess.Popen([sys.executable, __file__, "posts", sys.argv[2], str(rate), *sensors], stdin=subprocess.PIPE, text=True)
    time.sleep(2)
    told(f"beside {rate} readings a second", pages(seconds))
    posting.communicate("stop\n")
    print(f"memory {memory_mb()} MB now and at most")


def posts(rate, *sensors):
    """Devices that post a reading a minute of the past weeks, a hundred at a time."""
    owner = Client()
    now = json.loads(owner.ask("/api/v1/time")[1])["now"]
    start = time.mktime(time.strptime(now[:19], "%Y-%m-%dT%H:%M:%S")) - 86400 * 25
    taken, slowest, over, lock = [0], [0.0], threading.Event(), threading.Lock()
    batch, each = 100, rate / len(sensors)

    def post(number):
        client, begun, sent = Client(), time.monotonic() + random.random() * batch / each, 0
        while not over.is_set():
            time.sleep(max(0.0, begun + sent / each - time.monotonic()))
            body = json.dumps({"readings": [
                {"channel": "soil_pct", "at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.localtime(start + 60 * (sent + i))), "value": 20 + (i % 30) / 10}
                for i in range(batch)]})
            one = time.monotonic()
            status, text = client.ask("/api/v1/readings", body, {"content-type": "application/json", "authorization": f"Bearer load{number}"})
            with lock:
                slowest[0] = max(slowest[0], time.monotonic() - one)
                if status == 200:
                    taken[0] += json.loads(text)["taken"]
            sent += batch

    begun = time.monotonic()
    for number in sensors:
        threading.Thread(target=post, args=(number,), daemon=True).start()
    sys.stdin.readline()
    print(f"{taken[0] / (time.monotonic() - begun):.0f} readings a second were taken, slowest post {1000 * slowest[0]:.0f} ms", flush=True)
    os._exit(0)


def guesses():
    """Fifty clients that guess until they are stopped; what a line of an attacker's own machine would carry."""
    tries, over = {}, threading.Event()

    def guess(number):
        while not over.is_set():
            client = Client()
            status = client.sign_in(f"nobody{number % 7}", "not the password") if number % 2 else client.sign_in("isla", f"guess {number}")
            tries[status] = tries.get(status, 0) + 1
            time.sleep(0.2)

    threads = [threading.Thread(target=guess, args=(n,), daemon=True) for n in range(50)]
    for thread in threads:
        thread.start()
    sys.stdin.readline()
    over.set()
    print(f"guesses by answer: {tries}", flush=True)
    os._exit(0)


def attack(seconds=30):
    # Who is signed in is; guesses from their own address hold their name back as well.
    client = Client()
    client.sign_in()

    def alone():
        times, faults, until = [], [], time.monotonic() + seconds
        while time.monotonic() < until:
            path = random.choice(PAGES)
            begun = time.monotonic()
            status, _ = client.ask(path)
            times.append((time.monotonic() - begun, path))
            if status != 200:
                faults.append(f"{path}: {status}")
            time.sleep(0.02)
        return times, faults

    for path in PAGES:
        client.ask(path)
    told("pages alone", alone())
    attackers = subprocess.Popen([sys.executable, __file__, "guesses", sys.argv[2]], stdin=subprocess.PIPE, text=True)
    time.sleep(2)
    told("under attack", alone())
    attackers.communicate("stop\n")
    print(f"memory {memory_mb()} MB now and at most")


def users(count=50, seconds=600):
    print(f"memory before {memory_mb()} MB", flush=True)
    step = max(seconds // 5, 1)
    for part in range(5):
        told(f"{count} users, minute {part * step / 60:.0f} to {(part + 1) * step / 60:.0f}", pages(step, count, 1.0, part == 0))
        print(f"  memory {memory_mb()} MB now and at most", flush=True)


FILL = """
WITH made AS (
    INSERT INTO sensor_buckets (sensor_id, channel, bucket, at, value, readings, sum)
    SELECT s, c, b, b + interval '9 minutes', 15, 10, 150
    FROM generate_series({first}, {last}) s, unnest(ARRAY['temperature_c', 'humidity_pct', 'wind_m_s']) c,
         generate_series(app_now() - interval '365 days', app_now() - interval '1 hour', interval '10 minutes') b0,
         LATERAL (SELECT date_bin('10 minutes', b0, TIMESTAMPTZ '2000-01-01') AS b) x
    ON CONFLICT DO NOTHING RETURNING 1)
SELECT count(*) FROM made;
"""


def year(database, devices=100):
    def ask(sql):
        return psql(database, sql)

    told("pages of the demo", pages(20))
    site = ask("SELECT array_agg(id ORDER BY id) FROM sensors WHERE site_id = 1")[0]
    columns = [c for c in ask("SELECT column_name FROM information_schema.columns WHERE table_name = 'sensors' AND is_identity = 'NO' ORDER BY ordinal_position")]
    names = ", ".join(columns)
    # Sensors at the demo's other sites too, as a team of them would have.
    made = ask(f"INSERT INTO sensors ({names}) SELECT {names.replace('site_id', '1 + g % 4')} FROM sensors, generate_series(1, {devices}) g WHERE id = 1 RETURNING id")
    versions = [c for c in ask("SELECT column_name FROM information_schema.columns WHERE table_name = 'sensor_versions' AND column_name <> 'sensor_id' ORDER BY ordinal_position")]
    ask(f"INSERT INTO sensor_versions (sensor_id, {', '.join(versions)}) SELECT s.id, {', '.join('v.' + c for c in versions)} FROM sensor_versions v, sensors s WHERE v.sensor_id = 1 AND s.id BETWEEN {made[0]} AND {made[-1]}")
    ask("UPDATE sites SET revision = revision + 1")
    told(f"with {devices} sensors more, unread", pages(20))
    begun = time.monotonic()
    rows = 0
    for first in range(int(made[0]), int(made[-1]) + 1, 10):
        rows += int(ask(FILL.format(first=first, last=min(first + 9, int(made[-1]))))[0])
    ask("INSERT INTO site_readings (site_id, revision, last_at) SELECT id, 1, app_now() - interval '1 hour' FROM sites WHERE id <= 4 "
        "ON CONFLICT (site_id) DO UPDATE SET revision = site_readings.revision + 1, last_at = EXCLUDED.last_at")
    ask("ANALYZE")
    size = ask("SELECT pg_size_pretty(pg_total_relation_size('sensor_buckets'))")[0]
    print(f"{len(made)} sensors beside those of the demo ({site}), {rows} ten-minute values, {size}, in {time.monotonic() - begun:.0f} s", flush=True)
    told("with a year of each", pages(20))


numbers = [int(n) for n in sys.argv[3:] if n.isdigit()]
{"readings": readings, "attack": attack, "guesses": guesses, "users": users, "posts": posts}.get(WHAT, lambda *n: year(sys.argv[3], *n))(*numbers)
