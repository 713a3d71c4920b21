#!/usr/bin/env python3
"""Writes the recurrence vectors that crates/core/tests/recurrence.rs checks against.

Usage, in a virtual environment with requirements.txt installed:
    python tools/reference/recurrence.py crates/core/tests/data

Dates of each pattern come from dateutil.rrule, instants from dateutil.tz: a clock time that the
spring change skips is moved on by the gap, one that the autumn change repeats is the first.
"""
import csv
import datetime as dt
import importlib.metadata
import pathlib
import sys

from dateutil import tz
from dateutil.rrule import DAILY, FR, MO, MONTHLY, WE, WEEKLY, rrule

OUT = pathlib.Path(sys.argv[1])
# Over a new year, a 29 February, months of 31 days and both clock changes.
SPANS = [(dt.date(2027, 12, 20), dt.date(2028, 4, 12)), (dt.date(2028, 10, 1), dt.date(2028, 11, 12))]
ZONES = ["Europe/Paris", "America/New_York", "Australia/Lord_Howe", "Etc/GMT+1"]
TIMES = ["00:15", "02:30", "23:45"]


def dates(pattern, first, last):
    start = dt.datetime.combine(first, dt.time())
    end = dt.datetime.combine(last, dt.time())
    rules = {
        "mon-wed-fri": rrule(WEEKLY, byweekday=(MO, WE, FR), dtstart=start, until=end),
        "odd": rrule(MONTHLY, bymonthday=range(1, 32, 2), dtstart=start, until=end),
        "even": rrule(MONTHLY, bymonthday=range(2, 31, 2), dtstart=start, until=end),
        # Counted from a day before the span.
        "every-3": rrule(DAILY, interval=3, dtstart=dt.datetime(2027, 12, 1), until=end).between(start, end, inc=True),
        "every-14": rrule(DAILY, interval=14, dtstart=dt.datetime(2027, 12, 1), until=end).between(start, end, inc=True),
    }
    return [d.date() for d in rules[pattern]]


with open(OUT / "recurrence.csv", "w", newline="") as handle:
    handle.write("# run starts by dateutil.rrule and dateutil.tz\n")
    handle.write(f"# python-dateutil {importlib.metadata.version('python-dateutil')}\n")
    out = csv.writer(handle, lineterminator="\n")
    out.writerow(["pattern", "zone", "time", "from", "to", "starts_utc"])
    for pattern in ["mon-wed-fri", "odd", "even", "every-3", "every-14"]:
        for zone in ZONES:
            for time in TIMES:
                for first, last in SPANS:
                    hour, minute = map(int, time.split(":"))
                    starts = []
                    for day in dates(pattern, first, last):
                        local = dt.datetime.combine(day, dt.time(hour, minute)).replace(tzinfo=tz.gettz(zone))
                        local = tz.resolve_imaginary(local)
                        starts.append(local.astimezone(tz.UTC).strftime("%Y-%m-%dT%H:%M:%SZ"))
                    out.writerow([pattern, zone, time, first, last, " ".join(starts)])
