"""Writes controllers with their runs, for the test of the expansion: crates/formats/tests/data/controller-*.json
and the same names with .csv.

An independent second-by-second simulation of a controller, in the standard library alone: a clock ticks, starts
join a line, one pass at a time (or each by itself) opens valves, waits, soaks. It shares no idea with the
program, which lays whole runs. Times are UTC, so that clock changes stay with recurrence.py.
"""

import csv
import datetime as dt
import json
import math
import pathlib
import random

OUT = pathlib.Path(__file__).parents[2] / "crates/formats/tests/data"
DAYS = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]
FROM, TO = dt.date(2026, 7, 28), dt.date(2026, 8, 3)


def card(rng):
    cycle_and_soak = rng.random() < 0.7
    return {
        "name": "Reference controller", "stations": 8, "programs": 3, "starts_per_program": 4, "start_step_min": 1,
        "run_step_s": 1, "longest_run_s": 14400, "weekdays": True, "odd_even": True, "longest_interval_days": 31,
        "never_days": True, "percentage_min": 0, "percentage_max": 200, "percentage_step": 1,
        "percentage_scope": "program", "percentage_applies_to": rng.choice(["total", "cycle"]),
        "rounding": rng.choice(["nearest", "down", "up"]), "rounding_step_s": rng.choice([1, 30, 60]),
        "cycle_and_soak": cycle_and_soak, "overlapping_programs": rng.choice(["queue", "queue", "concurrent"]),
        "longest_delay_s": 7200, "longest_overlap_s": 0, "longest_rain_delay_days": 14, "omit_hours": True,
        "loops": True, "lighting": True,
    }


def clock(minute):
    return f"{minute // 60 % 24:02d}:{minute % 60:02d}"


def settings(rng, card):
    programs = []
    for name in "ABC":
        kind = rng.choice(["weekdays", "odd", "even", "nth"])
        days = {
            "weekdays": {"weekdays": [d for d in DAYS if rng.random() < 0.6]},
            "odd": "odd", "even": "even",
            "nth": {"every_nth": {"interval_days": rng.randint(1, 4), "first": "2026-07-27"}},
        }[kind]
        program = {
            "name": name, "active": rng.random() < 0.9,
            "starts": [clock(m) for m in sorted(rng.sample(range(0, 1440), rng.randint(1, 3)))],
            "days": days,
            "run_times": [{"station": n, "seconds": rng.randint(20, 1500)} for n in sorted(rng.sample(range(1, 9), rng.randint(1, 4)))],
        }
        if rng.random() < 0.25:
            first = program["starts"][0]
            program["starts"] = [first]
            minute = int(first[:2]) * 60 + int(first[3:])
            program["repeat"] = {"until": clock(minute + rng.randint(60, 300)), "pause_s": rng.randint(300, 2400)}
        programs.append(program)
    stations = []
    if card["cycle_and_soak"]:
        stations = [{"number": n, "cycle_s": rng.randint(120, 500), "soak_s": rng.randint(0, 1200)} for n in sorted(rng.sample(range(1, 9), 4))]
    result = {
        "programs": programs, "percentages": {"program": [rng.choice([100, 100, 50, 75, 130]) for _ in programs]},
        "stations": stations, "delay_s": rng.choice([0, 0, 10, 95]),
        "never_days": [d for d in DAYS if rng.random() < 0.1],
    }
    if rng.random() < 0.3:
        result["omit_hours"] = {"from": "10:00", "until": "16:00"}
    return result


def scaled(card, seconds, percent):
    step = card["rounding_step_s"]
    exact = seconds * percent / (100 * step)
    whole = {"nearest": math.floor(exact + 0.5), "down": math.floor(exact + 1e-9), "up": math.ceil(exact - 1e-9)}
    return whole[card["rounding"]] * step


def pieces(card, seconds, percent, longest):
    """The cycles of a run time: as even as whole seconds are, the first ones take the odd ones."""
    def even(total):
        count = -(-total // longest)
        return [total // count + (1 if i < total % count else 0) for i in range(count)] if count else []
    if longest is None:
        parts = [scaled(card, seconds, percent)]
    elif card["percentage_applies_to"] == "total":
        parts = even(scaled(card, seconds, percent))
    else:
        parts = [scaled(card, part, percent) for part in even(seconds)]
    return [p for p in parts if p > 0]


def runs_on(days, date):
    if days == "odd":
        return date.day % 2 == 1
    if days == "even":
        return date.day % 2 == 0
    if "weekdays" in days:
        return DAYS[date.weekday()] in days["weekdays"]
    nth = days["every_nth"]
    since = (date - dt.date.fromisoformat(nth["first"])).days
    return since >= 0 and since % nth["interval_days"] == 0


class Pass:
    """A program on its way through its stations."""

    def __init__(self, controller, program, number, date, begin):
        self.number, self.program, self.date = number, program, date
        own = controller["settings"]["programs"][program]
        percent = controller["settings"]["percentages"]["program"][program]
        cycled = {s["number"]: s for s in controller["settings"]["stations"]}
        self.stations = []
        for run in own["run_times"]:
            at = cycled.get(run["station"])
            parts = pieces(controller["card"], run["seconds"], percent, at["cycle_s"] if at else None)
            if parts:
                self.stations.append({"n": run["station"], "left": parts, "done": 0, "soak": at["soak_s"] if at else 0, "ready": begin})
        self.turn, self.open, self.free, self.last = 0, None, begin, begin

    def tick(self, now, delay, out):
        """One second: returns whether the pass is over."""
        if self.open and now == self.open["end"]:
            run, station = self.open, self.open["station"]
            out.append((run["begin"], now, self.program, self.number, station["n"], station["done"]))
            station["ready"], self.free, self.last, self.open = now + station["soak"], now + delay, now, None
            if not station["left"]:
                at = self.stations.index(station)
                self.stations.remove(station)
                self.turn = at % len(self.stations) if self.stations else 0
            else:
                self.turn = (self.stations.index(station) + 1) % len(self.stations)
        if self.open or not self.stations:
            return not self.stations and not self.open
        if now < self.free:
            return False
        count = len(self.stations)
        for k in range(count):
            station = self.stations[(self.turn + k) % count]
            if station["ready"] <= now:
                station["done"] += 1
                self.open = {"station": station, "begin": now, "end": now + station["left"].pop(0)}
                return False
        return False


def simulate(controller):
    """Every run, by ticking through the days."""
    asked = []
    for k in range((TO - FROM).days + 1):
        date = FROM + dt.timedelta(days=k)
        for index, program in enumerate(controller["settings"]["programs"]):
            if not program["active"] or not runs_on(program["days"], date) or DAYS[date.weekday()] in controller["settings"]["never_days"]:
                continue
            for number, start in enumerate(sorted(program["starts"]), 1):
                omit = controller["settings"].get("omit_hours")
                if omit and omit["from"] <= start < omit["until"]:
                    continue
                second = k * 86400 + int(start[:2]) * 3600 + int(start[3:]) * 60
                until = None
                if program.get("repeat"):
                    end = program["repeat"]["until"]
                    until = k * 86400 + int(end[:2]) * 3600 + int(end[3:]) * 60 + (0 if end > start else 86400)
                asked.append((second, index, number, date, until))
    line, active, out, now = sorted(asked, key=lambda a: a[:3]), [], [], 0
    queueing = controller["card"]["overlapping_programs"] == "queue"
    delay = controller["settings"]["delay_s"]
    while line or active:
        for current in list(active):
            over = current[0].tick(now, delay, out)
            if over:
                active.remove(current)
                finished, until = current
                if until is not None:
                    pause = controller["settings"]["programs"][finished.program]["repeat"]["pause_s"]
                    after = finished.last + pause
                    if after < until and finished.last > finished.begun:
                        line.append((after, finished.program, finished.number + 1, finished.date, until))
                        line.sort(key=lambda a: a[:3])
        while line and line[0][0] <= now and not (queueing and active):
            _, program, number, date, until = line.pop(0)
            fresh = Pass(controller, program, number, date, now)
            fresh.begun = now
            if not fresh.tick(now, delay, out):
                active.append((fresh, until))
        # Nothing is under way: on to the next start.
        now = line[0][0] if line and not active and line[0][0] > now else now + 1
    return sorted(out, key=lambda r: (r[0], r[2], r[4], r[5]))


def main():
    OUT.mkdir(parents=True, exist_ok=True)
    for seed in range(1, 13):
        rng = random.Random(seed)
        own = card(rng)
        controller = {"format": "upland-almanac-settings", "version": 1, "time_zone": "UTC", "card": own, "settings": settings(rng, own)}
        (OUT / f"controller-{seed:02d}.json").write_text(json.dumps(controller, indent=1) + "\n")
        with open(OUT / f"controller-{seed:02d}.csv", "w", newline="") as file:
            writer = csv.writer(file, lineterminator="\n")
            writer.writerow(["start", "end", "program", "start_number", "station", "cycle", "seconds"])
            epoch = dt.datetime.combine(FROM, dt.time(), dt.timezone.utc)
            at = lambda s: (epoch + dt.timedelta(seconds=s)).strftime("%Y-%m-%dT%H:%M:%S+00:00")
            for begin, end, program, number, station, cycle in simulate(controller):
                name = controller["settings"]["programs"][program]["name"]
                writer.writerow([at(begin), at(end), name, number, station, cycle, end - begin])


if __name__ == "__main__":
    main()
