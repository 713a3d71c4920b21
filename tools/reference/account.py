"""Writes sites with their weather, logs and water, for the test of the account: crates/app/tests/data/account-*.

An independent account hour by hour, in the standard library alone, written from the rules and not from the
program: FAO-56 eq. 21 and 52 (Hargreaves), eq. 24, 25, 31 to 33 (sun), 82 to 88 (root zone), the soil tables
and cycle limits of the Irrigation Association (from memory), and the rules that the help of `account` states.
It keeps a list of spells of an hour, each with a steady inflow, and fills a surface store spell by spell.
"""

import csv
import datetime as dt
import json
import math
import pathlib
import random

OUT = pathlib.Path(__file__).parents[2] / "crates/app/tests/data"
IN = 25.4
SOILS = {  # available mm/m, intake in/h, surface accumulation in by slope 0-3, 4-6, 7-12, 13+
    "sand": (60, 0.60, (0.40, 0.35, 0.30, 0.25)),
    "loamy_sand": (80, 0.50, (0.36, 0.30, 0.26, 0.22)),
    "sandy_loam": (120, 0.40, (0.33, 0.29, 0.26, 0.22)),
    "loam": (170, 0.35, (0.30, 0.25, 0.22, 0.19)),
    "clay_loam": (180, 0.20, (0.26, 0.22, 0.18, 0.15)),
    "silty_clay": (170, 0.15, (0.23, 0.19, 0.16, 0.13)),
    "clay": (170, 0.10, (0.20, 0.15, 0.10, 0.10)),
}
HOUR = dt.timedelta(hours=1)
FREEZE_C = 3.0


def declination(day):
    return 0.409 * math.sin(2 * math.pi / 365 * day - 1.39)


def hargreaves(date, tmin, tmax, latitude):
    day = date.timetuple().tm_yday
    phi, delta = math.radians(latitude), declination(day)
    omega = math.acos(max(-1.0, min(1.0, -math.tan(phi) * math.tan(delta))))
    distance = 1 + 0.033 * math.cos(2 * math.pi / 365 * day)
    ra = 24 * 60 / math.pi * 0.0820 * distance * (
        omega * math.sin(phi) * math.sin(delta) + math.cos(phi) * math.cos(delta) * math.sin(omega))
    return max(0.0, 0.0023 * ((tmin + tmax) / 2 + 17.8) * math.sqrt(tmax - tmin) * 0.408 * ra)


def sun_height(middle_utc, date, latitude, longitude):
    """Sine of the sun's height, nought below the horizon."""
    day = date.timetuple().tm_yday
    b = 2 * math.pi * (day - 81) / 364
    correction = 0.1645 * math.sin(2 * b) - 0.1255 * math.cos(b) - 0.025 * math.sin(b)
    hour = middle_utc.hour + middle_utc.minute / 60 + longitude / 15 + correction
    angle = math.pi / 12 * (hour - 12)
    phi, delta = math.radians(latitude), declination(day)
    return max(0.0, math.sin(phi) * math.sin(delta) + math.cos(phi) * math.cos(delta) * math.cos(angle))


class Zone:
    def __init__(self, rng, number):
        self.number = number
        self.soil = rng.choice(list(SOILS))
        self.slope = rng.choice([0, 2, 5, 9, 15])
        self.kc = round(rng.uniform(0.3, 1.1), 2)
        self.roots = round(rng.uniform(0.12, 0.6), 2)
        self.p = round(rng.uniform(0.3, 0.6), 2)
        self.rate = round(rng.choice([rng.uniform(4, 9), rng.uniform(12, 40)]), 1)
        self.du = round(rng.uniform(0.4, 0.95), 2)
        self.sky = rng.choice(["open", "open", "open", "under_eaves", "under_glass"])
        available, intake, asa = SOILS[self.soil]
        self.intake = intake * IN
        self.asa = asa[0 if self.slope < 4 else 1 if self.slope < 7 else 2 if self.slope < 13 else 3] * IN
        self.taw = available * self.roots
        self.raw = self.p * self.taw
        self.multiplier = 1 / (0.4 + 0.6 * max(self.du, 0.5))  # below 50 % repair, not add minutes
        self.uneven = 1 - (0.4 + 0.6 * self.du)

    def json(self):
        return {"number": self.number, "name": f"Zone {self.number}", "plant": "moderate_demand",
                "plant_coefficient": self.kc, "soil": self.soil, "slope_pct": self.slope, "sun": "full",
                "sky": self.sky, "head": "spray", "precipitation_rate_mm_per_h": self.rate, "uniformity": self.du,
                "root_depth_m": self.roots, "allowable_depletion": self.p, "area_m2": 100}

    def ks(self, depletion):
        return 1.0 if depletion <= self.raw else max(0.0, (self.taw - depletion) / ((1 - self.p) * self.taw))

    def cycles(self, net):
        total = max(1, math.floor(60 * net * self.multiplier / self.rate + 0.5))
        if self.rate > self.intake:
            longest = max(1, math.floor(60 * self.asa / (self.rate - self.intake)))
            soak = math.ceil(60 * self.asa / self.intake)
        else:
            longest, soak = total, 0
        count = -(-total // longest)
        return count, -(-total // count), soak if count > 1 else 0


def spells(start, runs):
    """An hour cut where a run begins or ends: (hours long, whether it waters)."""
    edges = {start, start + HOUR}
    for begin, end in runs:
        edges |= {t for t in (begin, end) if start < t < start + HOUR}
    edges = sorted(edges)
    for a, b in zip(edges, edges[1:]):
        yield (b - a) / HOUR, any(begin <= a < end for begin, end in runs)


def run_off(zone, pond, length, inflow):
    """What a steady inflow (mm/h) sends off in some hours, and the pond after it."""
    gain = inflow - zone.intake
    if gain <= 0:
        return 0.0, max(0.0, pond + gain * length)
    fills_after = (zone.asa - pond) / gain
    if fills_after >= length:
        return 0.0, pond + gain * length
    return gain * (length - fills_after), zone.asa


def account(zone, site, weather, logged, readings):
    tz = dt.timezone(dt.timedelta(hours=site["offset"]))
    dates = sorted(weather)
    et0 = {d: hargreaves(d, *weather[d][:2], site["latitude"]) for d in dates}

    def expected(date):
        """What was usual on a date by the days before it: ten either side of its time of year, else a rough climate."""
        near = [et0[d] for d in dates if d < date and abs((d - date).days) <= 10]
        if len(near) >= 5:
            return max(0.0, sum(near) / len(near))
        annual = 27.0 - 0.0075 * site["latitude"] ** 2 - 0.0065 * 100
        peak = 201.0 if site["latitude"] >= 0 else 201.0 - 182.5
        mean = annual + 0.28 * abs(site["latitude"]) * math.cos(2 * math.pi * (date.timetuple().tm_yday - peak) / 365)
        return hargreaves(date, mean - 6, mean + 6, site["latitude"])

    reaches = 1.0 if zone.sky == "open" else 0.0
    depletion = pond = 0.0
    advised, rows = [], []
    logged_days = {begin.date() for begin, _ in logged}
    for date in dates:
        tmin, tmax, rain = weather[date]
        drizzle = rain < 0.2 * et0[date]  # FAO-56 chapter 8: it wets leaves and evaporates
        begin = dt.datetime.combine(date, dt.time(), tz)
        starts = [begin + k * HOUR for k in range(24)]
        heights = [sun_height((s + HOUR / 2).astimezone(dt.timezone.utc), date, site["latitude"], site["longitude"])
                   for s in starts]
        for k, start in enumerate(starts):
            tomorrow = date + dt.timedelta(days=1)
            if k == 20 and tomorrow not in logged_days and not (
                    zone.sky != "under_glass" and (tmin <= FREEZE_C or (tmin + tmax) / 2 <= 0)):
                missing = min(depletion, zone.taw)
                if missing + expected(tomorrow) * zone.kc >= zone.raw and missing >= 0.25 * zone.raw and missing > 0:
                    count, each, soak = zone.cycles(missing)
                    at = dt.datetime.combine(tomorrow, dt.time(2), tz)
                    shut = dt.datetime.combine(tomorrow, dt.time(6), tz)
                    for _ in range(count):
                        end = min(at + dt.timedelta(minutes=each), shut)
                        if at < end:
                            advised.append((at, end))
                        at = end + dt.timedelta(minutes=soak)
            wet = rain / 6 * reaches if 12 <= k < 18 and not drizzle else 0.0
            row = dict.fromkeys(("rain", "rain_in", "applied", "applied_in", "runoff", "drainage", "et", "demand"), 0.0)
            row["rain"] = wet
            lost_rain = lost_water = 0.0
            for length, waters in spells(start, [*logged, *advised]):
                sprayed = zone.rate if waters else 0.0
                inflow = wet + sprayed
                off, pond = run_off(zone, pond, length, inflow)
                row["applied"] += sprayed * length
                row["runoff"] += off
                if inflow > 0:
                    lost_rain += off * wet / inflow
                    lost_water += off * sprayed / inflow
            row["rain_in"] = wet - lost_rain
            row["applied_in"] = row["applied"] - lost_water
            uneven = row["applied_in"] * zone.uneven
            level = depletion - row["rain_in"] - row["applied_in"] + uneven
            row["drainage"] = uneven + max(0.0, -level)
            depletion = max(0.0, level)
            row["demand"] = zone.kc * et0[date] * heights[k] / sum(heights)
            row["et"] = min(zone.ks(depletion) * row["demand"], max(0.0, zone.taw - depletion))
            depletion += row["et"]
            read = [left for at, left in readings if start + HOUR / 2 <= at < start + 1.5 * HOUR]
            for left in read:
                depletion, pond = zone.taw * (1 - left / 100), 0.0
            row |= {"time": start, "depletion": depletion,
                    "evidence": ("logged" if date in logged_days else "as_advised") + (" reading" if read else "")}
            rows.append(row)
    return rows


def of_days(rows):
    for k in range(0, len(rows), 24):
        day = rows[k:k + 24]
        out = {key: sum(r[key] for r in day) for key in day[0] if isinstance(day[0][key], float)}
        reading = next((r["evidence"] for r in day if "reading" in r["evidence"]), day[0]["evidence"])
        yield out | {"depletion": day[-1]["depletion"], "evidence": reading, "time": day[0]["time"].date()}


def line(row, number):
    ks = row["et"] / row["demand"] if row["demand"] > 1e-9 else 1.0
    values = [row[k] for k in ("rain", "rain_in", "applied", "applied_in", "runoff", "drainage", "et")]
    values += [ks, row["depletion"]]
    time = row["time"].isoformat()
    return [time, number, *(f"{v:.6f}" for v in values), row["evidence"]]


def case(seed):
    rng = random.Random(seed)
    site = {"latitude": round(rng.uniform(-45, 58), 2), "longitude": round(rng.uniform(-120, 120), 2)}
    site["offset"] = round(site["longitude"] / 15)
    first = dt.date(2026, rng.choice([1, 4, 7, 10]), 1)
    weather = {}
    for k in range(45):
        tmin = round(rng.uniform(1.0, 16.0), 1)
        wet = rng.random() < 0.3
        rain = round(rng.choice([rng.uniform(0.2, 6), rng.uniform(6, 60)]), 1) if wet else 0.0
        weather[first + dt.timedelta(days=k)] = (tmin, round(tmin + rng.uniform(6, 16), 1), rain)
    zones = [Zone(rng, n) for n in range(1, 5)]
    tz = dt.timezone(dt.timedelta(hours=site["offset"]))
    log = {"format": "upland-almanac-log", "version": 1, "runs": [], "readings": []}
    runs, readings = {z.number: [] for z in zones}, {z.number: [] for z in zones}
    for zone in zones[:2]:
        for k in rng.sample(range(45), 12):
            begin = dt.datetime.combine(first + dt.timedelta(days=k), dt.time(rng.randint(0, 20), rng.randint(0, 59)), tz)
            seconds = rng.randint(60, 7200)
            runs[zone.number].append((begin, begin + dt.timedelta(seconds=seconds)))
            log["runs"].append({"station": zone.number, "start": begin.isoformat(), "seconds": seconds})
    for zone in zones[1:3]:
        at = dt.datetime.combine(first + dt.timedelta(days=rng.randint(10, 30)), dt.time(rng.randint(6, 20), rng.randint(0, 59)), tz)
        left = rng.randint(5, 95)
        readings[zone.number].append((at, left))
        log["readings"].append({"station": zone.number, "at": at.isoformat(), "available_pct": left, "reason": "probe"})
    sign = "-" if site["offset"] >= 0 else "+"
    document = {
        "format": "upland-almanac-site", "version": 1,
        "place": {"name": f"Reference {seed}", "latitude_deg": site["latitude"], "longitude_deg": site["longitude"],
                  "elevation_m": 100, "time_zone": f"Etc/GMT{sign}{abs(site['offset'])}", "units": "metric"},
        "controller": {"name": "Shed", "stations": 8, "programs": 3, "starts_per_program": 4},
        "settings": {"water_window": {"from": "02:00", "until": "06:00"}},
        "zones": [z.json() for z in zones],
    }
    name = OUT / f"account-{seed:02d}"
    name.with_suffix(".json").write_text(json.dumps(document, indent=1) + "\n")
    name.with_suffix(".log.json").write_text(json.dumps(log, indent=1) + "\n")
    with name.with_suffix(".weather.csv").open("w", newline="") as file:
        out = csv.writer(file, lineterminator="\n")
        out.writerow(["date", "tmin_c", "tmax_c", "rain_mm"])
        out.writerows([d.isoformat(), *w] for d, w in weather.items())
    days, hours = [], []
    for zone in zones:
        rows = account(zone, site, weather, sorted(runs[zone.number]), readings[zone.number])
        days += [line(row, zone.number) for row in of_days(rows)]
        hours += [line(row, zone.number) for row in rows[-48:]]
    header = ["time", "zone", "rain_mm", "rain_in_mm", "applied_mm", "applied_in_mm", "runoff_mm", "drainage_mm",
              "et_mm", "ks", "depletion_mm", "evidence"]
    for kind, lines in (("days", days), ("hours", hours)):
        with name.with_suffix(f".{kind}.csv").open("w", newline="") as file:
            out = csv.writer(file, lineterminator="\n")
            out.writerow(header)
            out.writerows(lines)


if __name__ == "__main__":
    OUT.mkdir(parents=True, exist_ok=True)
    for seed in range(1, 7):
        case(seed)
