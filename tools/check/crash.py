#!/usr/bin/env python3
"""What tools/check/crash.sh does: people and devices at work while server, worker and database are killed at random.

crash.py FOLDER DATABASE_URL SECONDS SEED

Whoever is not answered asks again: with the same key where the interface has one, with new words where it has none, so
that what was acknowledged can be told from what was not. In the end everything acknowledged must be there, nothing twice,
and no work left that says it runs. The standard library and psql only.
"""
import http.cookiejar
import json
import os
import random
import re
import signal
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.parse
import urllib.request

from forms import Forms, NoRedirect, parts

FOLDER, DATABASE = sys.argv[1:3]
SECONDS, CHANCE = int(sys.argv[3]), random.Random(int(sys.argv[4]))
PROGRAM = "target/debug/upland-almanac"
PORT = 0
over = threading.Event()
failures, acknowledged, attempts = [], {}, {}
counting = threading.Lock()


def say(*words):
    print(*words, flush=True)


def ask(sql):
    done = subprocess.run(["psql", "-qAtX", "-v", "ON_ERROR_STOP=1", DATABASE, "-c", sql], capture_output=True, text=True)
    if done.returncode:
        raise RuntimeError(done.stderr)
    return [line for line in done.stdout.split("\n") if line]


class Server:
    """The server at one address, without a worker of its own."""

    def __init__(self):
        self.start(0)

    def start(self, port):
        global PORT
        command = [PROGRAM, "serve", "--demo", "--at-once", "0", "--port", str(port), "--database-url", DATABASE]
        for _ in range(100):
            log = open(f"{FOLDER}/server.log", "a", encoding="utf-8")
            self.process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=log, text=True)
            hello = self.process.stdout.readline()
            found = re.search(r"serves on http://[\d.]+:(\d+)", hello)
            if found and port in (0, int(found.group(1))):
                PORT = int(found.group(1))
                return
            # The database is not back yet, or the port still closing.
            self.process.kill()
            self.process.wait()
            time.sleep(0.2)
        raise RuntimeError("the server does not come back")

    def kill(self):
        self.process.kill()
        self.process.wait()
        self.start(PORT)


class Worker:
    def __init__(self):
        self.start()

    def start(self):
        log = open(f"{FOLDER}/worker.log", "a", encoding="utf-8")
        command = [PROGRAM, "worker", "--presumed-dead-after", "3", "--database-url", DATABASE]
        self.process = subprocess.Popen(command, stdout=log, stderr=log)

    def kill(self):
        self.process.kill()
        self.process.wait()
        self.start()

    def look(self):
        """One that found no database at its beginning ended; whoever runs it starts it again, as systemd does."""
        if self.process.poll() is not None:
            self.start()


def kill_database():
    with open(f"{FOLDER}/data", encoding="utf-8") as data:
        folder = data.read().strip()
    with open(f"{folder}/postmaster.pid", encoding="utf-8") as lock:
        postmaster = int(lock.readline())
    os.kill(postmaster, signal.SIGKILL)
    for _ in range(100):
        try:
            with open(f"/proc/{postmaster}/stat", encoding="utf-8") as stat:
                if stat.read().rsplit(")", 1)[1].split()[0] == "Z":
                    break
        except OSError:
            break
        time.sleep(0.1)
    # Its children see it gone and end by themselves.
    time.sleep(1.5)
    subprocess.run(["bash", "tools/check/crash.sh", "again", FOLDER], check=True)


class Gone(Exception):
    """Nobody answered: what was asked may have been done or not."""


class Person:
    def __init__(self, login):
        self.opener = urllib.request.build_opener(NoRedirect, urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        self.patient(lambda: self.sign_in(login))

    def sign_in(self, login):
        fields = self.form("/sign-in", "/sign-in")
        if self.send("/sign-in", {**fields, "login": login, "password": "larkrigg-demo"})[0] != 303:
            raise Gone

    def send(self, path, fields=None, body=None, headers=()):
        if fields is not None:
            body = urllib.parse.urlencode(fields).encode()
        request = urllib.request.Request(f"http://127.0.0.1:{PORT}{path}", data=body, headers=dict(headers))
        try:
            with self.opener.open(request, timeout=20) as answer:
                return answer.status, answer.read().decode(), answer.headers
        except urllib.error.HTTPError as error:
            if error.code in (429, 500, 503):
                raise Gone from error
            return error.code, error.read().decode(errors="replace"), error.headers
        except (OSError, ValueError, __import__("http.client").client.HTTPException) as error:
            raise Gone from error

    def form(self, page, action=None):
        """The fields of the form of a page that is sent to an address, or to any."""
        status, text, _ = self.send(page)
        parser = Forms()
        parser.feed(text)
        for attributes, fields in parser.forms:
            if "csrf" in fields and action in (None, attributes.get("action") or page):
                return fields
        raise Gone(f"{page}: {status}")

    def patient(self, work):
        while not over.is_set():
            try:
                return work()
            except Gone:
                time.sleep(0.1)
        return None

    def upload(self, path, token, name, content):
        body, headers = parts(token, name, "text/csv", content.encode())
        return self.send(path, body=body, headers=headers.items())


def took(kind, what):
    with counting:
        acknowledged.setdefault(kind, []).append(what)


def began(kind):
    with counting:
        attempts[kind] = attempts.get(kind, 0) + 1
        return attempts[kind]


def notes(person):
    fields = person.form("/sites/1/logbook", "/sites/1/logbook")
    words = f"crash note {began('notes')} of it"
    name = next(name for name in fields if name in ("note", "words", "text"))
    status, text, _ = person.send("/sites/1/logbook", {**fields, name: words})
    if status == 303:
        took("notes", words)


def surveys(person):
    fields = person.form("/sites/4/edit", "/sites/4/edit")
    name = f"Allotments {began('surveys')}"
    status, _, _ = person.send("/sites/4/edit", {**fields, "name": name})
    if status == 303:
        took("surveys", name)


def settings(person):
    fields = person.form("/sites/2/controllers/1", "/sites/2/controllers/1")
    number = began("settings")
    reason = f"crash save {number} of it"
    status, text, _ = person.send("/sites/2/controllers/1", {**fields, "p0-m1": str(3 + number % 40), "reason": reason})
    if status == 303:
        took("settings", reason)


def entries(person):
    zone = ask("SELECT min(id) FROM zones WHERE site_id = 3 AND removed_at IS NULL")[0]
    token = person.form("/sites/3/visit")["csrf"]
    key = f"crash-entry-{began('entries'):08}"
    fields = {"csrf": token, "key": key, "what": "zone", "about": zone, "looks": "dry", "note": key}
    # With its key it may be sent until somebody answers.
    while not over.is_set():
        try:
            status, text, _ = person.send("/sites/3/visit/entries", fields)
        except Gone:
            time.sleep(0.1)
            continue
        if status in (200, 303):
            took("entries", key)
        else:
            failures.append(f"an entry was refused with {status}: {text[:200]}")
        return


def imports(person):
    page = "/sites/4/weather"
    token = person.form(page)["csrf"]
    name = f"crash-{began('imports')}.csv"
    year = 1900 + attempts["imports"]
    days = "".join(f"{year}-{month:02}-{day:02},{day / 3:.1f},{10 + day / 3:.1f},{day % 5}\n" for month in range(1, 13) for day in range(1, 29))
    status, _, headers = person.upload(f"{page}/sources/0/files", token, name, "date,tmin_c,tmax_c,rain_mm\n" + days)
    if status != 303:
        return
    draft = headers["location"]
    fields = person.form(draft, draft)
    status, _, _ = person.send(draft, fields)
    if status == 303:
        took("imports", name)


def searches(person):
    path = "/sites/2/trial/search"
    token = person.form(path)["csrf"]
    began("searches")
    fields = {"csrf": token, "same": "weather=days&from=2026-05-01&to=2026-05-20", "box": "1", "goal": "90", "minutes": "yes"}
    if person.send(path, fields)[0] == 303:
        took("searches", attempts["searches"])
    time.sleep(2)


def readings(key, start):
    """One batch after another, each until it is taken."""
    at = start
    while not over.is_set():
        batch = [at + i for i in range(60)]
        stamp = [time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(second)) for second in batch]
        body = json.dumps({"readings": [{"channel": "soil_pct", "at": s, "value": 20 + i % 9} for i, s in enumerate(stamp)]}).encode()
        headers = {"content-type": "application/json", "authorization": f"Bearer {key}"}
        request = urllib.request.Request(f"http://127.0.0.1:{PORT}/api/v1/readings", data=body, headers=headers)
        began("readings")
        try:
            with urllib.request.urlopen(request, timeout=20) as answer:
                done = json.loads(answer.read())
        except Exception:  # noqa: BLE001 - nobody acknowledged, whatever it was
            time.sleep(0.1)
            continue
        if done["taken"] + done["repeated"] != 60:
            failures.append(f"a batch was taken in part: {done}")
        took("readings", (batch[0], 60))
        at += 60
        time.sleep(0.05)


def device(person):
    page = "/sites/1/sensors/2"
    person.patient(lambda: person.send(page + "/devices", {**person.form(page, page + "/devices"), "name": "crash"}))
    text = person.patient(lambda: person.send(page)[1])
    return re.search(r'class="token">([0-9a-f]+)<', text).group(1)


def at_work(work, login):
    person = Person(login)
    while not over.is_set():
        try:
            work(person)
        except (Gone, RuntimeError):
            time.sleep(0.1)
        except Exception as error:  # noqa: BLE001 - one who is gone would be missed by nobody
            failures.append(f"{work.__name__}: {error!r}")
            return
        time.sleep(0.02)


def once(kind, found):
    """Each acknowledged one is among what was found exactly once, and nothing is there twice."""
    wanted = acknowledged.get(kind, [])
    missing = [w for w in wanted if found.count(w) == 0]
    twice = sorted({f for f in found if found.count(f) > 1})
    say(f"  {kind:9} {attempts.get(kind, 0):5} sent, {len(wanted):5} acknowledged, {len(found):5} found, {len(missing)} lost, {len(twice)} twice")
    if missing or twice or not wanted:
        failures.append(f"{kind}: lost {missing[:5]}, twice {twice[:5]}, acknowledged {len(wanted)}")


def main():
    server, worker = Server(), Worker()
    isla = Person("isla")
    key = device(isla)
    start = int(float(ask("SELECT extract(epoch FROM app_now() - interval '20 days')")[0]))
    threads = [threading.Thread(target=at_work, args=(work, login), daemon=True)
               for work, login in [(notes, "bram"), (surveys, "isla"), (settings, "bram"), (entries, "isla"), (imports, "bram"), (searches, "bram")]]
    threads.append(threading.Thread(target=readings, args=(key, start), daemon=True))
    for thread in threads:
        thread.start()
    killed = {"server": 0, "worker": 0, "database": 0}
    until = time.monotonic() + SECONDS
    while time.monotonic() < until:
        time.sleep(CHANCE.uniform(1.0, 4.0))
        worker.look()
        # What was not killed yet comes first: nobody learns from a run that spared one of them.
        spared = [kind for kind, times in killed.items() if not times]
        what = CHANCE.choice(spared or ["server", "worker", "worker", "database"])
        killed[what] += 1
        {"server": server.kill, "worker": worker.kill, "database": kill_database}[what]()
    time.sleep(3)
    over.set()
    for thread in threads:
        thread.join(30)
    say(f"killed: {killed}; then everything is let alone")
    # Nothing that is due waits, nothing that failed waits to be tried again, nothing is held by somebody dead.
    waiting = None
    for _ in range(240):
        worker.look()
        waiting = ask("SELECT key || ' ' || attempts || ' ' || COALESCE(last_error, '') FROM work.jobs WHERE run_at <= now() OR locked_at IS NOT NULL OR attempts > 0")
        if not waiting:
            break
        time.sleep(0.5)
    if waiting:
        failures.append(f"work is left: {waiting[:5]}")
    once("notes", ask("SELECT words FROM site_notes WHERE words LIKE 'crash note %' AND undone_at IS NULL"))
    once("surveys", ask("SELECT name FROM site_versions WHERE site_id = 4 AND name LIKE 'Allotments %'"))
    once("settings", ask("SELECT reason FROM settings_versions WHERE reason LIKE 'crash save %'"))
    once("entries", ask("SELECT client_key FROM visit_entries WHERE client_key LIKE 'crash-%'"))
    once("imports", ask("SELECT file_name FROM weather_imports WHERE file_name LIKE 'crash-%' AND undone_at IS NULL"))
    found = ask("SELECT extract(epoch FROM at)::bigint / 60 * 60 FROM sensor_readings r JOIN sensor_devices d ON d.id = r.device_id WHERE d.name = 'crash'")
    counts = {}
    for minute in found:
        counts[int(minute)] = counts.get(int(minute), 0) + 1
    wanted = sum(count for _, count in acknowledged["readings"])
    say(f"  readings  {60 * attempts['readings']:5} sent, {wanted:5} acknowledged, {len(found):5} found")
    if len(found) < wanted or max(counts.values()) > 60:
        failures.append(f"readings: {len(found)} of {wanted}, at most {max(counts.values())} a minute")
    days = ask("SELECT file_name || ' ' || count(d.date) FROM weather_imports i LEFT JOIN weather_days d ON d.import_id = i.id "
               "WHERE file_name LIKE 'crash-%' GROUP BY i.id, file_name HAVING count(d.date) <> 336")
    halves = ask("SELECT id FROM weather_imports WHERE staged_for IS NOT NULL")
    running = ask("SELECT id FROM weather_drafts WHERE state = 'running'")
    search = ask("SELECT number FROM searches WHERE ended_at IS NULL")
    stale = ask("SELECT s.id FROM sites s LEFT JOIN rounds r ON r.site_id = s.id WHERE s.removed_at IS NULL AND r.revision IS DISTINCT FROM s.revision")
    say(f"  imports without all their days: {len(days)}, half ones: {len(halves)}, drafts that run: {len(running)}, "
        f"searches that run: {len(search)}, sites whose round is old: {len(stale)}")
    if days or halves or running or search or stale:
        failures.append(f"left over: {days} {halves} {running} {search} {stale}")
        say(ask("SELECT d.id || ' ' || d.state || ' ' || i.id || ' ' || COALESCE(i.staged_for::text, '-') FROM weather_imports i LEFT JOIN weather_drafts d ON d.id = i.staged_for WHERE staged_for IS NOT NULL"))
        say(ask("SELECT task_identifier || ' ' || key || ' ' || attempts || ' ' || run_at || ' ' || now() || ' ' || COALESCE(locked_by, '-') || COALESCE(last_error, '') FROM work.jobs"))
    # A worker that has nothing to do waits to be told, and looks every second or two; what was let alone may still ask.
    looked = []
    for _ in range(2):
        time.sleep(5)
        looked += ask("SELECT seq_scan + idx_scan FROM pg_stat_user_tables WHERE schemaname = 'work' AND relname = '_private_jobs'")
    looks = int(looked[1]) - int(looked[0])
    say(f"  looks of an idle worker at the queue in five seconds: {looks}")
    if not 0 < looks < 1000:
        failures.append(f"an idle worker looked at the queue {looks} times in five seconds")
    worker.process.terminate()
    server.process.terminate()
    worker.process.wait()
    server.process.wait()
    if min(killed.values()) == 0 or failures:
        raise SystemExit("\n".join(failures) or f"not everything was killed: {killed}")


main()
