#!/usr/bin/env python3
"""Every form of every page with one field at a time at its edges: no server error, no answer after five seconds.

forms.py URL    signs in to the demo as its owner; prints how many forms and posts there were

The standard library only.
"""
import http.cookiejar
import pathlib
import re
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
from html.parser import HTMLParser

EDGES = ["inf", "-1", "31 Dec 9999", "0001-01-01", "a\0b"]
# A reason of 400 kB, where a sentence is asked.
LONG, SENTENCES = "x" * 400_000, {"reason", "name", "text", "words", "note", "line", "lines"}
# What ends the check itself, lets days pass, or takes away what other forms are about.
SKIPPED = re.compile(r"sign-out|/clock/|/people/\d+/(out|role)|remove|/units|stand-in")
SLOWEST_S = 5


class Forms(HTMLParser):
    """The forms of a page with their fields as a browser would send them."""

    def __init__(self):
        super().__init__()
        self.forms, self.form, self.select, self.area = [], None, None, None

    def handle_starttag(self, tag, attributes):
        a = dict(attributes)
        name = a.get("name")
        if tag == "form":
            self.form = (a, {})
            self.forms.append(self.form)
        elif self.form is None:
            return
        elif tag == "input" and name and a.get("type") != "file":
            if a.get("type") not in ("checkbox", "radio") or "checked" in a:
                self.form[1][name] = a.get("value", "")
        elif tag == "select" and name:
            self.select = name
            self.form[1].setdefault(name, "")
        elif tag == "option" and self.select and ("selected" in a or not self.form[1][self.select]):
            self.form[1][self.select] = a.get("value", "")
        elif tag == "textarea" and name:
            self.area = name
            self.form[1][name] = ""
        elif tag == "button" and name:
            self.form[1].setdefault(name, a.get("value", ""))

    def handle_endtag(self, tag):
        if tag == "form":
            self.form = None
        elif tag == "select":
            self.select = None
        elif tag == "textarea":
            self.area = None

    def handle_data(self, data):
        if self.area and self.form:
            self.form[1][self.area] += data


def parts(token, name, kind, content):
    """A form with a file, and its content type."""
    edge = "edge-of-the-parts"
    head = f'--{edge}\r\ncontent-disposition: form-data; name="csrf"\r\n\r\n{token}\r\n--{edge}\r\ncontent-disposition: form-data; name="file"; filename="{name}"\r\ncontent-type: {kind}\r\n\r\n'
    return head.encode() + content + f"\r\n--{edge}--\r\n".encode(), {"content-type": f"multipart/form-data; boundary={edge}"}


class NoRedirect(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_):
        return None


def main(url):
    opener = urllib.request.build_opener(NoRedirect, urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))

    def send(path, fields=None):
        body = urllib.parse.urlencode(fields).encode() if fields is not None else None
        try:
            with opener.open(urllib.request.Request(url + path, data=body), timeout=180) as answer:
                return answer.status, answer.read().decode()
        except urllib.error.HTTPError as error:
            return error.code, error.read().decode(errors="replace")

    def forms_of(path):
        parser = Forms()
        parser.feed(send(path)[1])
        return parser.forms

    def sign_in():
        fields = {"csrf": forms_of("/sign-in")[0][1]["csrf"], "login": "isla", "password": "larkrigg-demo"}
        assert send("/sign-in", fields)[0] == 303, "the owner can sign in"

    sign_in()
    listed = pathlib.Path("crates/app/tests/whole/pages.rs").read_text()
    pages = re.findall(r'^    "(/[^"]*)",$', listed, re.M)
    assert len(pages) > 40, "the list of pages"
    seen, posts, faults = set(), 0, []
    for page in pages:
        for attributes, fields in forms_of(page):
            action = attributes.get("action") or page
            kind = re.sub(r"\d+", "N", action)
            if attributes.get("method") != "post" or attributes.get("enctype") or SKIPPED.search(action) or kind in seen:
                continue
            seen.add(kind)
            for name in fields:
                for edge in EDGES + ([LONG] if name in SENTENCES else []):
                    if name == "csrf":
                        continue
                    began = time.monotonic()
                    status, _ = send(action, {**fields, name: edge})
                    posts += 1
                    took = time.monotonic() - began
                    if status >= 500 or took > SLOWEST_S:
                        faults.append(f"{action}: {name} = {edge[:20]!r}: {status} after {took:.1f} s")
                    if status == 401:
                        sign_in()
    print(f"{len(seen)} forms, {posts} posts at the edges")
    if faults:
        sys.exit("\n".join(faults))
    assert len(seen) > 40 and posts > 1000, "the forms were found"


if __name__ == "__main__":
    main(sys.argv[1])
