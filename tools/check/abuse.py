#!/usr/bin/env python3
"""What tools/check/abuse.sh asks of a server: see there."""
import http.client
import os
import re
import sys
import threading
import time
import urllib.parse

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


if __name__ == "__main__":
    what, address = sys.argv[1], sys.argv[2].removeprefix("http://")
    if what == "flood":
        flood(address, int(sys.argv[3]), sys.argv[4], float(sys.argv[5]))
    elif what == "gone":
        gone(address, sys.argv[3])
    else:
        back(address)
