#!/usr/bin/env python3
"""A device for the checks of tools/check/devices.sh; the standard library only.

devices.py token URL                       signs in to the demo and makes a device; prints its token
devices.py reading-token URL               the same for a token by which other software reads everything
devices.py post URL TOKEN BATCHES PER      posts BATCHES x PER readings, each batch again until it is taken
devices.py frozen URL PID                  freezes a process and its children, asks for pages, lets them go on
devices.py flood URL TOKEN RATE SECONDS    posts RATE readings a second and prints what was taken
"""
import concurrent.futures
import datetime
import http.cookiejar
import json
import os
import re
import signal
import sys
import time
import urllib.error
import urllib.parse
import urllib.request


class NoRedirect(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_):
        return None


def browse(url):
    opener = urllib.request.build_opener(NoRedirect, urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))

    def send(path, **fields):
        body = urllib.parse.urlencode(fields).encode() if fields else None
        try:
            with opener.open(urllib.request.Request(url + path, data=body)) as answer:
                return answer.read().decode()
        except urllib.error.HTTPError as error:
            return error.read().decode()

    def csrf(path):
        return re.search(r'name="csrf" value="([^"]+)"', send(path)).group(1)

    return send, csrf


def token(url, sensor=1):
    send, csrf = browse(url)
    send("/sign-in", csrf=csrf("/sign-in"), login="bram", password="larkrigg-demo")
    page = f"/sites/1/sensors/{sensor}"
    send(page + "/devices", csrf=csrf(page), name="check")
    return re.search(r'class="token">([0-9a-f]+)<', send(page)).group(1)


def reading_token(url):
    send, csrf = browse(url)
    send("/sign-in", csrf=csrf("/sign-in"), login="bram", password="larkrigg-demo")
    send("/me/tokens", csrf=csrf("/me/tokens"), name="check", sites="yes", settings="yes", nights="yes", account="yes")
    return re.search(r'class="token">([0-9a-f]+)<', send("/me/tokens")).group(1)


def post(url, key, readings, patient=True):
    body = json.dumps({"readings": readings}).encode()
    headers = {"content-type": "application/json", "authorization": f"Bearer {key}"}
    while True:
        try:
            with urllib.request.urlopen(urllib.request.Request(url + "/api/v1/readings", data=body, headers=headers), timeout=20) as answer:
                return json.loads(answer.read())
        except urllib.error.HTTPError as error:
            if error.code not in (429, 503):
                raise SystemExit(f"refused with {error.code}: {error.read().decode()}")
            if not patient:
                return None
        except (urllib.error.URLError, ConnectionError, TimeoutError):
            # The server is gone: nobody acknowledged, so it is sent again.
            pass
        time.sleep(0.1)


def stamps(url, count):
    """Seconds from thirty days before what the server's clock shows."""
    with urllib.request.urlopen(url + "/api/v1/time") as answer:
        now = datetime.datetime.fromisoformat(json.loads(answer.read())["now"].replace("Z", "+00:00"))
    start = now - datetime.timedelta(days=30)
    return [(start + datetime.timedelta(seconds=i)).isoformat() for i in range(count)]


# Far more than the three seconds after which a page says that the database does not answer, far less than for ever.
LONGEST_S = 8
PAGES = ["/", "/sites/1/today", "/sites/2/controllers/1", "/sites/1/weather", "/sign-in", "/calls", "/readyz"]


def family(pid):
    """A process and its children."""

    def parent(stat):
        return int(stat.rsplit(")", 1)[1].split()[1])

    children = []
    for other in filter(str.isdigit, os.listdir("/proc")):
        try:
            with open(f"/proc/{other}/stat", encoding="utf-8") as stat:
                if parent(stat.read()) == pid:
                    children.append(int(other))
        except OSError:
            pass  # It ended while we looked.
    return [pid, *children]


def frozen(url, postmaster):
    send, csrf = browse(url)
    send("/sign-in", csrf=csrf("/sign-in"), login="bram", password="larkrigg-demo")
    if "Potting shed" not in send("/sites/1/programs") + send("/sites/1/controllers/1"):
        raise SystemExit("the page is not there before the database is frozen")
    pids = family(postmaster)
    for pid in pids:
        os.kill(pid, signal.SIGSTOP)
    try:
        if send("/healthz") != "ok\n":
            raise SystemExit("the server does not live while its database is frozen")

        def ask(path):
            begun = time.monotonic()
            text = send(path)
            return path, "The database does not answer" in text, time.monotonic() - begun

        with concurrent.futures.ThreadPoolExecutor(50) as pool:
            answers = list(pool.map(ask, PAGES * 15))
    finally:
        for pid in pids:
            os.kill(pid, signal.SIGCONT)
    wrong = [a for a in answers if not a[1] or a[2] > LONGEST_S]
    if wrong:
        raise SystemExit(f"while the database was frozen: {wrong[:5]}")
    time.sleep(1)
    if "Potting shed" not in send("/sites/1/controllers/1"):
        raise SystemExit("the page does not come back with the database")
    print(f"{len(answers)} pages, the slowest in {max(a[2] for a in answers):.1f} s")


def main():
    what, url = sys.argv[1], sys.argv[2].rstrip("/")
    if what == "token":
        print(token(url))
    elif what == "reading-token":
        print(reading_token(url))
    elif what == "post":
        key, batches, per = sys.argv[3], int(sys.argv[4]), int(sys.argv[5])
        times = stamps(url, batches * per)
        for b in range(batches):
            readings = [{"channel": "soil_pct", "at": times[i], "value": (i % 500) / 10} for i in range(b * per, (b + 1) * per)]
            done = post(url, key, readings)
            assert done["taken"] + done["repeated"] == per and not done["refused"], done
            print("acknowledged", (b + 1) * per, flush=True)
    elif what == "frozen":
        frozen(url, int(sys.argv[3]))
    elif what == "flood":
        key, rate, seconds = sys.argv[3], int(sys.argv[4]), int(sys.argv[5])
        times, per = stamps(url, rate * seconds), max(1, rate // 10)
        begun, taken, slowest = time.time(), 0, 0.0
        for b in range(len(times) // per):
            readings = [{"channel": "flow_l_min", "at": times[i], "value": i % 90} for i in range(b * per, (b + 1) * per)]
            one = time.time()
            taken += post(url, key, readings)["taken"]
            slowest = max(slowest, time.time() - one)
            time.sleep(max(0.0, begun + (b + 1) * per / rate - time.time()))
        length = time.time() - begun
        print(f"{taken} readings in {length:.1f} s: {taken / length:.0f} a second, slowest post {1000 * slowest:.0f} ms")


main()
