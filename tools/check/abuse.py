#!/usr/bin/env python3
"""What tools/check/abuse.sh asks of a server: see there."""
import http.client
import json
import os
import random
import re
import struct
import sys
import threading
import time
import urllib.parse
import zlib

from forms import parts

# Beyond what the server held before, in MB: its cache is bounded, and so are uploads and passwords in flight.
MOST_MORE_MB = 300
# A request writes one line of log of bounded length, however large it was.
MOST_LOG_A_REQUEST = 2_000
# The server counts as dead when it does not say that it lives for so long, s. How fast it is, is a benchmark's matter.
ALIVE_S = 2.0
# A page says that the database is gone within so long, s; the issue of the users asks for three.
SAID_S = 3.0


def memory_mb(pid):
    """Resident memory of a process in MB."""
    with open(f"/proc/{pid}/status", encoding="ascii") as status:
        return int(re.search(r"VmRSS:\s+(\d+)", status.read()).group(1)) / 1024


def shapes():
    """Requests with one part at its largest each: method, path, headers, body."""
    large = "x" * 60_000
    password = "4@8({[</369g!|10$57%+2Z" * 5
    form = {"content-type": "application/x-www-form-urlencoded"}
    yield "A" * 3_000, "/sign-in", {}, None
    yield "GET", "/" + "p" * 16_000, {}, None
    yield "GET", "/sign-in?" + "q" * 16_000, {}, None
    yield "POST", "/sign-in", form, "login=" + large * 8 + "&password=" + large
    yield "POST", "/sign-in", form, urllib.parse.urlencode({"login": "isla", "password": password})
    yield "POST", "/first-owner", form, urllib.parse.urlencode({"login": "x", "name": "x", "password": password, "again": password})
    yield "POST", "/api/v1/readings", {"authorization": "Bearer " + "t" * 16_000}, "{}"
    yield "POST", "/password/" + "t" * 8_000, form, "password=x"
    yield "PUT", "/sites/1/tuning/photos", {"content-type": "image/png"}, b"\x89PNG" + b"\0" * 500_000
    for name in ("cookie", "user-agent", "host", "x-forwarded-for", "accept-language", "referer", "if-none-match"):
        yield "GET", "/sign-in", {name: "h" * 16_000}, None


def send(url, method, path, headers, body):
    """Sends one request; a refusal of any kind is an answer."""
    connection = http.client.HTTPConnection(url, timeout=10)
    try:
        connection.request(method, path, body=body, headers=headers)
        return connection.getresponse().status
    except (OSError, http.client.HTTPException):
        return 0
    finally:
        connection.close()


def flood(url, pid, log, seconds):
    all_shapes = list(shapes())
    for shape in all_shapes:
        send(url, *shape)
    before, log_before = memory_mb(pid), os.path.getsize(log)
    sent = [0] * 8
    stop = time.monotonic() + seconds

    def work(own):
        at = own
        while time.monotonic() < stop:
            send(url, *all_shapes[at % len(all_shapes)])
            sent[own] += 1
            at += 1

    threads = [threading.Thread(target=work, args=(own,)) for own in range(len(sent))]
    for thread in threads:
        thread.start()
    most, waits = before, []
    while time.monotonic() < stop:
        began = time.monotonic()
        answered = send(url, "GET", "/healthz", {}, None)
        waits.append(time.monotonic() - began)
        assert answered == 200, f"/healthz answered {answered}"
        most = max(most, memory_mb(pid))
        time.sleep(0.1)
    for thread in threads:
        thread.join()
    requests, written = sum(sent), os.path.getsize(log) - log_before
    waits.sort()
    print(
        f"{requests} requests, memory {before:.0f} to at most {most:.0f} MB, {written // 1024} kB of log, "
        f"/healthz in the middle {waits[len(waits) // 2] * 1000:.0f} ms, at most {waits[-1] * 1000:.0f} ms"
    )
    assert most - before < MOST_MORE_MB, "memory grows"
    assert written < MOST_LOG_A_REQUEST * max(requests, 1), "the log grows with what is sent"
    assert waits[-1] < ALIVE_S, "it does not say that it lives"


def gone(url, log):
    began = time.monotonic()
    answered = send(url, "GET", "/sign-in", {}, None)
    took = time.monotonic() - began
    print(f"without its database: {answered} after {took:.1f} s")
    assert answered == 503 and took < SAID_S, "a page does not say that the database is gone"
    assert send(url, "GET", "/healthz", {}, None) == 200
    assert send(url, "GET", "/readyz", {}, None) == 503
    with open(log, encoding="utf-8") as lines:
        text = lines.read()[-20_000:]
    assert re.search(r"connecting to server|refused|terminat|shut|closed", text), f"the log does not name the cause: {text[-3000:]}"


def back(url):
    began = time.monotonic()
    while send(url, "GET", "/sign-in", {}, None) != 200:
        assert time.monotonic() - began < 20, "it does not go on when the database is back"
        time.sleep(0.2)
    print(f"with its database again after {time.monotonic() - began:.1f} s")


class Person:
    """Somebody who signed in; `cookie` carries an earlier sign-in on."""

    def __init__(self, url, cookie=""):
        self.url, self.cookie = url, cookie

    def ask(self, path, fields=None, body=None, headers=None, method=None):
        """Status and text of an answer; status 0 where none came."""
        headers = {"cookie": self.cookie, **(headers or {})}
        if fields is not None:
            body = urllib.parse.urlencode(fields)
            headers["content-type"] = "application/x-www-form-urlencoded"
        connection = http.client.HTTPConnection(self.url, timeout=180)
        try:
            connection.request(method or ("GET" if body is None else "POST"), path, body=body, headers=headers)
            answer = connection.getresponse()
            for value in answer.headers.get_all("set-cookie") or []:
                self.cookie = value.split(";")[0]
            return answer.status, (answer.headers["location"] or "") + answer.read().decode(errors="replace")
        except (OSError, http.client.HTTPException) as error:
            return 0, str(error)
        finally:
            connection.close()

    def token(self, path):
        """The form token of a page."""
        status, text = self.ask(path)
        found = re.search(r'name="csrf" value="([^"]+)"', text)
        assert found, f"{path} answered {status} without a form"
        return found.group(1)

    def sign_in(self, login, password="larkrigg-demo"):
        status, text = self.ask("/sign-in", {"csrf": self.token("/sign-in"), "login": login, "password": password})
        assert status == 303, f"sign-in answered {status}: {text[:300]}"


def picture(side):
    """A PNG of side by side pixels of noise in rows that repeat: large when it is opened, quick to make."""
    row = b"\0" + random.Random(7).randbytes(side * 3)
    packed = zlib.compress(row * side, 1)
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", side, side, 8, 2, 0, 0, 0)) + chunk(b"IDAT", packed) + chunk(b"IEND", b"")


def load(url, cookie, pid, service, seconds):
    """Everything that is large at once: the whole server stays under MemoryMax of its service file."""
    with open(service, encoding="ascii") as lines:
        ceiling = int(re.search(r"^MemoryMax=(\d+)M$", lines.read(), re.M).group(1))
    times = [
        f"{year}-{month:02}-{day:02}T{hour:02}:00"
        for year in range(1980, 2026) for month in range(1, 13) for day in range(1, 29) for hour in range(24)
    ]
    filler = "0" * (23_000_000 // len(times) - 30)
    hours = ("time,temperature_c,rain_mm\n" + "".join(f"{time},10.{filler},0.0\n" for time in times)).encode()
    photo = picture(5_000)
    source = re.search(r"/sites/1/weather/sources/(\d+)", Person(url, cookie).ask("/sites/1/weather")[1])
    assert source, "the first site has no source of weather"
    stop, answers = time.monotonic() + seconds, []

    def again(work):
        person = Person(url, cookie)
        token = person.token("/sites/1/logbook")
        while time.monotonic() < stop:
            answers.append((work.__name__, work(person, token)))

    def upload(person, token):
        body, headers = parts(token, "hours.csv", "text/csv", hours)
        status, text = person.ask(f"/sites/1/weather/sources/{source.group(1)}/files", body=body, headers=headers)
        # A file that is read waits with a preview, which opens it again.
        found = re.search(r"/sites/1/weather/drafts/\d+", text)
        return person.ask(found.group(0))[0] if found else status

    def photograph(person, token):
        body, headers = parts(token, "tap.png", "image/png", photo)
        return person.ask("/sites/1/visit/photos", body=body, headers=headers)[0]

    def password(person, token):
        wrong = {"csrf": token, "now": "larkrigg-demo", "password": "larkrigg-demo", "again": "x"}
        return person.ask("/me/password", wrong)[0]

    def compare(person, token):
        return person.ask(f"/sites/1/trial?weather=generated&seed={random.randrange(1_000_000)}")[0]

    def anonymous(person, token):
        return max(send(url, *shape) for shape in shapes())

    before, most = memory_mb(pid), 0
    work = [upload] * 4 + [photograph] * 2 + [password] * 4 + [compare] * 4 + [anonymous] * 4
    threads = [threading.Thread(target=again, args=(one,)) for one in work]
    for thread in threads:
        thread.start()
    while any(thread.is_alive() for thread in threads):
        most = max(most, memory_mb(pid))
        time.sleep(0.05)
    counts = {}
    for kind, status in answers:
        counts.setdefault(kind, {}).setdefault(status, 0)
        counts[kind][status] += 1
    print(f"memory {before:.0f} to at most {most:.0f} MB of {ceiling}; answers {json.dumps(counts)}")
    assert most < ceiling, "memory goes beyond the ceiling"
    assert all(counts.get(one.__name__) for one in work), "some of it was not answered at all"


def full(url, cookie, log):
    """The disk of the database is full: pages are read, saving says why it fails, and the log names the cause."""
    person = Person(url, cookie)
    began = time.monotonic()
    for at in range(400):
        status, text = person.ask("/sites/1/logbook", {"csrf": person.token("/sites/1/logbook"), "note": random.randbytes(2000).hex()})
        if status != 303:
            break
    assert status == 503 and "disk of the database is full" in text, f"{status}: {text[:500]}"
    assert person.ask("/sites/1/today")[0] == 200, "a page that only reads fails"
    with open(log, encoding="utf-8") as lines:
        assert "No space left on device" in lines.read(), "the log does not name the cause"
    print(f"with a full disk: {at} notes fitted, then 503 with its reason; Today is read; {time.monotonic() - began:.1f} s")


def room(url, cookie):
    person = Person(url, cookie)
    token = person.token("/sites/1/logbook")
    status, text = person.ask("/sites/1/logbook", {"csrf": token, "note": "there is room again"})
    assert status == 303, f"{status}: {text[:500]}"
    print("with room again: saved")


if __name__ == "__main__":
    what, address = sys.argv[1], sys.argv[2].removeprefix("http://")
    if what == "flood":
        flood(address, int(sys.argv[3]), sys.argv[4], float(sys.argv[5]))
    elif what == "sign-in":
        person = Person(address)
        person.sign_in("bram")
        with open(sys.argv[3], "w", encoding="ascii") as kept:
            kept.write(person.cookie)
    elif what in ("load", "full", "room"):
        with open(sys.argv[3], encoding="ascii") as kept:
            own = kept.read()
        if what == "load":
            load(address, own, int(sys.argv[4]), sys.argv[5], float(sys.argv[6]))
        elif what == "full":
            full(address, own, sys.argv[4])
        else:
            room(address, own)
    elif what == "gone":
        gone(address, sys.argv[3])
    else:
        back(address)
