#!/usr/bin/env python3
"""Describes every route of the table that answers a script or a file, for schemathesis (PyPI) to try.

json_routes.py URL FOLDER    signs in to the demo; writes FOLDER/routes.json and prints the cookie to send

What a route takes stands below; a route of the table that answers JSON, CSV or GeoJSON and is in neither list stops the
check. The interface of devices has a description of its own.
"""
import json
import pathlib
import re
import sys
import urllib.parse
import urllib.request
from http.cookiejar import CookieJar

from forms import Forms, NoRedirect

URL, FOLDER = sys.argv[1].rstrip("/"), pathlib.Path(sys.argv[2])
TEXT, DAY = {"type": "string"}, {"type": "string", "examples": ["2026-07-01", "1 Jul", "tomorrow"]}
TRIAL = {name: TEXT for name in ["seed", "price", "kw", "kwh", "way", "zone", "day"]}
TRIAL |= {"from": DAY, "to": DAY, "weather": {"type": "string", "enum": ["days", "typical", "driest", "wettest", "generated", "none"]}}
LOGBOOK = {name: TEXT for name in ["q", "kind", "zone", "person", "before"]} | {"from": DAY, "to": DAY}
READS = ["number", "duration", "time", "times", "date", "month_day", "days", "slope", "line", "nothing"]
QUERIES = {
    "/find.json": {"words": TEXT},
    "/typed": {"reads": {"type": "string", "enum": READS}, "unit": {"type": "string", "enum": ["mm", "in", "°C", "min", "", "%"]},
               "text": TEXT, "rate": {"type": "number"}, "step": {"type": "integer"}, "today": {"type": "string", "format": "date"}},
    "/sites/{id}/logbook.json": LOGBOOK,
    "/sites/{id}/logbook.csv": LOGBOOK,
    "/sites/{id}/trial.json": TRIAL,
    "/sites/{id}/trial.csv": TRIAL,
    "/sites/{id}/sheet.csv": {"date": DAY, "box": {"type": "integer"}},
    "/sites/{id}/weather.csv": {"from": DAY, "to": DAY},
    "/sites/{id}/weather/series.json": {"source": {"type": "integer"}, "variable": TEXT, "from": {"type": "string", "format": "date"},
                                        "to": {"type": "string", "format": "date"}},
}
# Sent by scripts as forms and answered in JSON, with a header that asks for it.
POSTS = {
    "/sites/{id}/sensors/plan/look": ({"lines": TEXT, "month": {"type": "integer"}, "hour": {"type": "integer"}}, {}),
    "/sites/{id}/controllers/{number}/draft": ({"base_version": {"type": "integer"}, "line": TEXT, "p0-starts": TEXT, "p0-m1": TEXT,
                                          "p0-days": {"type": "string", "enum": ["weekdays", "odd", "even", "interval", "x"]},
                                          "chosen": DAY, "zoom": TEXT, "mend": TEXT}, {"x-part": "live"}),
    "/sites/{id}/visit/entries": ({"key": TEXT, "what": {"type": "string", "enum": ["zone", "box", "sensor", "site", "x"]},
                                   "about": {"type": "integer"}, "looks": TEXT, "note": TEXT, "at": TEXT, "sent_at": TEXT},
                                  {"accept": "application/json"}),
}
LEFT_OUT = re.compile(r"^/api/v1/")
KINDS = {".json": "application/json", ".csv": "text/csv; charset=utf-8", ".geojson": "application/geo+json", "/typed": "application/json"}


def sign_in():
    jar = CookieJar()
    opener = urllib.request.build_opener(NoRedirect, urllib.request.HTTPCookieProcessor(jar))

    def send(path, fields=None):
        body = urllib.parse.urlencode(fields).encode() if fields else None
        try:
            return opener.open(urllib.request.Request(URL + path, data=body)).read().decode()
        except urllib.error.HTTPError as error:
            return error.read().decode()

    def token(path):
        parser = Forms()
        parser.feed(send(path))
        return next(fields["csrf"] for _, fields in parser.forms if "csrf" in fields)

    send("/sign-in", {"csrf": token("/sign-in"), "login": "isla", "password": "larkrigg-demo"})
    return "; ".join(f"{cookie.name}={cookie.value}" for cookie in jar), token("/me")


def answers(kind, schema):
    refusals = ["400", "403", "404", "409", "413", "422", "429"]
    page = {"text/html; charset=utf-8": {"schema": {}}, "application/json": {"schema": {}}}
    good = {"200": {"description": "it", "content": {kind: {"schema": schema}}}, "303": {"description": "elsewhere"}}
    return good | {code: {"description": "no", "content": page} for code in refusals}


def main():
    cookie, csrf = sign_in()
    table = pathlib.Path("crates/app/tests/whole/routes.txt").read_text(encoding="utf-8")
    routes = re.findall(r"^(?:anyone|reader|technician|owner)\s+(GET|POST)\s+(\S+)$", table, re.M)
    paths = {}
    for method, route in routes:
        kind = next((kind for end, kind in KINDS.items() if route.endswith(end)), None)
        if LEFT_OUT.search(route) or (method == "GET") != (kind is not None and route not in POSTS):
            continue
        if method == "POST" and route not in POSTS:
            continue
        named = re.findall(r"\{(\w+)\}", route)
        words = {"code": {"type": "string", "enum": ["twelve_stations", "none"]}}
        of = [{"name": name, "in": "path", "required": True, "schema": words.get(name, {"type": "integer", "minimum": 0, "maximum": 6})} for name in named]
        of += [{"name": name, "in": "query", "schema": schema} for name, schema in QUERIES.get(route, {}).items()]
        if route.startswith("/schemas/"):
            kind = "application/schema+json"
        operation = {"parameters": of, "responses": answers(kind or "application/json", {"type": ["object", "array"]} if (kind or "json").endswith("json") else {})}
        if method == "POST":
            fields, headers = POSTS[route]
            # Without its header a form is answered with a page.
            operation["responses"]["200"]["content"]["text/html; charset=utf-8"] = {"schema": {}}
            of += [{"name": name, "in": "header", "required": True, "schema": {"type": "string", "enum": [value]}} for name, value in headers.items()]
            schema = {"type": "object", "properties": fields | {"csrf": {"type": "string", "enum": [csrf]}}, "required": ["csrf"]}
            operation["requestBody"] = {"required": True, "content": {"application/x-www-form-urlencoded": {"schema": schema}}}
        paths.setdefault(route, {})[method.lower()] = operation
    missing = (set(QUERIES) | set(POSTS)) - set(paths)
    if missing:
        raise SystemExit(f"no longer in the table of routes: {sorted(missing)}")
    about = {"openapi": "3.1.0", "info": {"title": "Routes for scripts and files", "version": "1"}, "servers": [{"url": URL}], "paths": paths}
    (FOLDER / "routes.json").write_text(json.dumps(about), encoding="utf-8")
    print(cookie)


main()
