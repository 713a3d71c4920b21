#!/usr/bin/env python3
"""How long a season takes beside two reference libraries, on the same zone-days, in one run.

Usage, in a virtual environment with `pyfao56` and `aquacrop` of PyPI:
    python tools/bench/trial.py target/release/upland-almanac

Each goes through the same invented year, zone by zone: pyfao56 a daily balance (FAO-56 with two coefficients), aquacrop
a crop's season by the day with watering at a soil-moisture target, and this program every hour of the year for the mean
of each zone and its three parts. What is printed is zone-days a second and the ratio to this program; the command's own
start and reading of files are taken off by running it on one day.
"""
import json
import logging
import math
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

logging.disable(logging.CRITICAL)
import pandas as pd  # noqa: E402
from aquacrop import AquaCropModel, Crop, InitialWaterContent, IrrigationManagement, Soil  # noqa: E402
from pyfao56 import Irrigation, Model, Parameters, Weather  # noqa: E402

BINARY = sys.argv[1]
ZONES = 24
DAYS = pd.date_range("2025-01-01", "2025-12-31")
DRAW = random.Random(20260714)
YEAR = []
for day in DAYS:
    season = -math.cos((day.dayofyear + 15) / 365 * math.tau)
    rain = round(DRAW.choice([0, 0, 0, DRAW.uniform(1, 6), DRAW.uniform(6, 25)]), 1)
    low = round(6 + 8 * season + DRAW.uniform(-1, 1), 1)
    YEAR.append((day, low, round(low + 9 + 3 * season + DRAW.uniform(-1, 1), 1), rain, max(0.3, 2.5 + 2.2 * season)))


def timed(work, least_s=2.0):
    """Seconds that one call takes, over as many as fill some seconds."""
    work()
    began, calls = time.perf_counter(), 0
    while time.perf_counter() - began < least_s:
        work()
        calls += 1
    return (time.perf_counter() - began) / calls


def daily_balance():
    weather = Weather()
    unknown = [float("nan")] * 6
    rows = [unknown + [45.0, 2.0, rain, et0, "M"] for _, _, _, rain, et0 in YEAR]
    weather.wdata = pd.DataFrame(rows, index=DAYS.strftime("%Y-%j"), columns=weather.wdata.columns)
    weather.rfcrp, weather.z, weather.lat, weather.wndht = "S", 1000.0, 46.0, 2.0
    parameters = Parameters(Kcbini=0.15, Kcbmid=0.85, Kcbend=0.85, Lini=30, Ldev=40, Lmid=250, Lend=45, Zrini=0.3, Zrmax=0.3)
    irrigation = Irrigation()
    for day in DAYS[90:270:3]:
        irrigation.addevent(day.year, day.dayofyear, 9.0, 1.0)
    Model(DAYS[0].strftime("%Y-%j"), DAYS[-1].strftime("%Y-%j"), parameters, weather, irr=irrigation).run()
    return len(YEAR)


def crop_season():
    table = pd.DataFrame(
        [(low, high, rain, et0, day) for day, low, high, rain, et0 in YEAR],
        columns=["MinTemp", "MaxTemp", "Precipitation", "ReferenceET", "Date"],
    )
    model = AquaCropModel(
        sim_start_time="2025/01/01",
        sim_end_time="2025/12/31",
        weather_df=table,
        soil=Soil("SandyLoam"),
        crop=Crop("Maize", planting_date="04/15"),
        initial_water_content=InitialWaterContent(value=["FC"]),
        irrigation_management=IrrigationManagement(irrigation_method=1, SMT=[70] * 4),
    )
    model.run_model(till_termination=True)
    flux = model.get_water_flux()
    return int((flux["time_step_counter"] > 0).sum()) + 1


def command(folder, days):
    site = json.loads((Path(__file__).parents[2] / "crates/app/src/demo/sites/hollin-green.json").read_text())
    lawn = next(zone for zone in site["zones"] if zone["number"] == 5)
    site["zones"] = [{**lawn, "number": n, "name": f"Zone {n}"} for n in range(1, ZONES + 1)]
    controller = site["controllers"][0]
    controller["card"]["stations"] = ZONES
    run_times = [{"station": n, "seconds": 480} for n in range(1, ZONES + 1)]
    program = {"name": "A", "active": True, "starts": ["23:00"], "days": {"weekdays": ["monday", "thursday"]}}
    controller["settings"] = {"programs": [{**program, "run_times": run_times}], "percentages": {"box": 100}, "delay_s": 0}
    (folder / "site.json").write_text(json.dumps(site))
    rows = [f"{day:%Y-%m-%d},{low},{high},{rain}" for day, low, high, rain, _ in YEAR]
    (folder / "year.csv").write_text("date,tmin_c,tmax_c,rain_mm\n" + "\n".join(rows) + "\n")
    last = DAYS[0] + pd.Timedelta(days=days - 1)
    arguments = [BINARY, "simulate", folder / "site.json", folder / "year.csv", "--way", "as-set"]
    return lambda: subprocess.run(
        [*arguments, "--from", "2025-01-01", "--to", f"{last:%Y-%m-%d}"], check=True, capture_output=True
    )


with tempfile.TemporaryDirectory() as folder:
    folder = Path(folder)
    whole, start = timed(command(folder, len(YEAR))), timed(command(folder, 1))
    own = ZONES * len(YEAR) / (whole - start)
    print(f"this program: {ZONES} zones, {len(YEAR)} days by the hour, mean and three parts: {1000 * (whole - start):.1f} ms")
    print(f"{'':16}{'zone-days/s':>14}{'times slower':>14}")
    print(f"{'this program':16}{own:14.0f}{1:14.1f}")
    for name, work in [("pyfao56", daily_balance), ("aquacrop", crop_season)]:
        days = work()
        rate = days / timed(work)
        print(f"{name:16}{rate:14.0f}{own / rate:14.1f}")
