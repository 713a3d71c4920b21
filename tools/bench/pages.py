#!/usr/bin/env python3
"""How fast a running server is: each chapter beside the floor, pages under load, the call list of many
sites, thirty years of hours.

The floor is a page that reads what every chapter of a site reads and prints it as it stands: the file of
the site.

Usage: python3 tools/bench/pages.py http://127.0.0.1:8080 [SITES]

Give it a demo that may be filled: it opens SITES copies of the demo's first site (500), brings each
two years of weather, and times the first call list after that and the following ones. Load comes from
wrk (Debian), so that the client does not count. Only the standard library besides.
"""
import datetime
import http.client
import http.cookiejar
import json
import math
import re
import statistics
import subprocess
import sys
import time
import urllib.error
import urllib.request

url = sys.argv[1].rstrip("/")
sites = int(sys.argv[2]) if len(sys.argv) > 2 else 500


class NoRedirect(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_):
        return None


jar = http.cookiejar.CookieJar()
opener = urllib.request.build_opener(NoRedirect, urllib.request.HTTPCookieProcessor(jar))


def send(path, body=None, kind="application/x-www-form-urlencoded"):
    request = urllib.request.Request(url + path, data=body, headers={"content-type": kind} if body else {})
    try:
        with opener.open(request) as answer:
            return answer.status, answer.headers, answer.read()
    except urllib.error.HTTPError as error:
        return error.code, error.headers, error.read()


def token(path):
    return re.search(r'name="csrf" value="([^"]+)"', send(path)[2].decode()).group(1)


def post(path, csrf, **fields):
    return send(path, urllib.parse.urlencode({"csrf": csrf, **fields}).encode())


def upload(path, csrf, name, content):
    mark = "----bench"
    body = (f'--{mark}\r\ncontent-disposition: form-data; name="csrf"\r\n\r\n{csrf}\r\n--{mark}\r\n'
            f'content-disposition: form-data; name="file"; filename="{name}"\r\n\r\n').encode() + content + f"\r\n--{mark}--\r\n".encode()
    return send(path, body, f"multipart/form-data; boundary={mark}")


def bring(site, csrf, name, content):
    """Brings a weather file; returns the seconds from the yes to the end."""
    _, headers, _ = upload(f"/sites/{site}/weather/sources/0/files", csrf, name, content)
    draft = headers["location"]
    start = time.time()
    _, headers, _ = post(draft, csrf)
    progress = headers["location"]
    while b'"running":true' in send(progress + ".json")[2]:
        time.sleep(0.02)
    return time.time() - start


def timed(path, runs=15):
    times = []
    for _ in range(runs):
        start = time.time()
        status, _, _ = send(path)
        assert status == 200, (path, status)
        times.append(1000 * (time.time() - start))
    return times


def alone(path, runs=60):
    """Median milliseconds of one reader on one connection, warm."""
    host = urllib.parse.urlparse(url)
    connection = http.client.HTTPConnection(host.hostname, host.port)
    cookie = "; ".join(f"{c.name}={c.value}" for c in jar)
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        connection.request("GET", path, headers={"cookie": cookie})
        answer = connection.getresponse()
        answer.read()
        assert answer.status == 200, (path, answer.status)
        times.append(1000 * (time.perf_counter() - start))
    return statistics.median(times[runs // 6:])


def chapters():
    """Every chapter of the demo's first site beside the floor."""
    first = lambda page, kind: re.search(rf"/sites/1/{kind}/(\d+)", send(page)[2].decode()).group(0)
    zone, sensor = first("/sites/1/zones", "zones"), first("/sites/1/sensors", "sensors")
    controller = "/sites/1/controllers/1"
    floor = alone("/sites/1/site.json")
    print(f"the floor, the file of the site: {floor:.2f} ms")
    for path in ["/", "/sites/1/today", "/sites/1/sheet", "/sites/1/zones", zone, f"{zone}/season", f"{zone}/cans", controller,
                 f"{controller}/plan", f"{controller}/sheet", f"{controller}/history", f"{controller}/law", f"{controller}/manual", f"{controller}/budget", "/sites/1/sensors",
                 sensor, "/sites/1/sensors/map", "/sites/1/sensors/wiring", "/sites/1/sensors/plan", "/sites/1/weather", "/calls"]:
        median = alone(path)
        print(f"{path}: {median:.2f} ms, {median / floor:.1f} times the floor")


def load(path, users):
    cookie = "; ".join(f"{c.name}={c.value}" for c in jar)
    out = subprocess.run(["wrk", "-t1", f"-c{users}", "-d10s", "--latency", "-H", f"cookie: {cookie}", url + path],
                         capture_output=True, text=True, check=True).stdout
    figures = dict(re.findall(r"(\d+)%\s+([\d.]+[a-z]+)", out))
    print(f"{path}: {users} at once: median {figures['50']}, 99 % {figures['99']}; " + re.search(r"Requests/sec:\s+\S+", out).group(0))


def days(count):
    lines = ["date,tmin_c,tmax_c,rh_min_pct,rh_max_pct,solar_mj_m2,wind_m_s,rain_mm"]
    last = datetime.date(2026, 7, 14)
    for back in range(count - 1, -1, -1):
        day = last - datetime.timedelta(days=back)
        season = math.cos(2 * math.pi * (day.timetuple().tm_yday - 203) / 365)
        wave = math.sin(back * 1.7)
        lines.append(f"{day},{3 + 9 * season + wave:.1f},{14 + 11 * season + 2 * wave:.1f},{45 + 5 * wave:.0f},88,"
                     f"{11 + 9 * season + wave:.2f},{1.9 + 0.4 * wave:.2f},{8 + 3 * wave if back % 6 == 0 else 0:.1f}")
    return "\n".join(lines).encode()


def hours(count):
    lines = ["time,temp_c,rh_pct,solar_w_m2,wind_m_s,rain_mm"]
    start = datetime.datetime(1996, 7, 15)
    for i in range(count):
        at = start + datetime.timedelta(hours=i)
        day = math.sin(math.pi * (at.hour - 6) / 12)
        lines.append(f"{at:%Y-%m-%dT%H:%M}:00Z,{11 + 7 * day + i % 7 * 0.1:.1f},{70 - 20 * day + i % 5:.0f},{max(0, 600 * day):.0f},"
                     f"{1.8 + i % 9 * 0.1:.1f},{2.4 if i % 97 == 0 else 0}")
    return "\n".join(lines).encode()


csrf = token("/sign-in")
assert post("/sign-in", csrf, login="bram", password="larkrigg-demo")[0] == 303
csrf = token("/")
chapters()
site_file = send("/sites/1/site.json")[2]
template = json.loads(site_file)
before = re.findall(r'href="/sites/(\d+)/today"', send("/")[2].decode())
start = time.time()
for number in range(len(before), sites):
    template["place"]["name"] = f"Bench slope {number:03}"
    _, headers, _ = upload("/sites/open", csrf, "site.json", json.dumps(template).encode())
    site = headers["location"].split("/")[2]
    send(f"/sites/{site}/today")
    bring(site, csrf, "days.csv", days(730))
print(f"{sites} sites are there after {time.time() - start:.0f} s")
print(f"call list, first after the server started or after new weather: {timed('/calls', 1)[0]:.0f} ms")
print(f"call list from its cache: median {statistics.median(timed('/calls')):.1f} ms")
load("/calls", 4)
load("/sites/1/controllers/1/budget", 20)
load("/sites/1/controllers/1/budget", 1)
load("/sites/1/today", 20)
load("/", 20)
content = hours(263_000)
print(f"263 000 hours ({len(content) / 1e6:.0f} MB): {bring(2, csrf, 'hours.csv', content):.1f} s")
