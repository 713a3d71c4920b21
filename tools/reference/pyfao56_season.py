#!/usr/bin/env python3
"""Writes a season of the PyPI library pyfao56, which crates/core/src/account/tests.rs holds the account against.

Usage, in a virtual environment with requirements.txt installed:
    python tools/reference/pyfao56_season.py crates/core/tests/data/pyfao56.csv

The weather and the waterings are drawn from a fixed seed and are only a carrier. The library splits demand into a
basal part and evaporation; both together are the demand of its row. Its soil is sand of 0.6 m: 36 mm in all.
"""
import random
import sys
from importlib.metadata import version

import pandas as pd
from pyfao56 import Irrigation, Model, Parameters, Weather

DRAW = random.Random(20260714)
DAYS = pd.date_range("2026-05-01", periods=150)

weather = Weather()
rows = []
for day in DAYS:
    rain = round(DRAW.choice([0, 0, 0, 0, 0, DRAW.uniform(1, 6), DRAW.uniform(6, 30)]), 1)
    unknown = [float("nan")] * 6
    rows.append(unknown + [45.0, 2.0, rain, round(DRAW.uniform(1.5, 6.5), 2), "M"])
weather.wdata = pd.DataFrame(rows, index=DAYS.strftime("%Y-%j"), columns=weather.wdata.columns)
weather.rfcrp, weather.z, weather.lat, weather.wndht = "S", 1000.0, 46.0, 2.0

parameters = Parameters(
    Kcbini=0.15, Kcbmid=0.85, Kcbend=0.85, Lini=1, Ldev=1, Lmid=200, Lend=10, hini=0.1, hmax=0.1,
    thetaFC=0.10, thetaWP=0.04, theta0=0.08, Zrini=0.6, Zrmax=0.6, pbase=0.5, Ze=0.001, REW=0.0,
)
irrigation = Irrigation()
for day in DAYS:
    if DRAW.random() < 0.12:
        irrigation.addevent(day.year, day.dayofyear, round(DRAW.uniform(3, 20), 1), 1.0)

model = Model(DAYS[0].strftime("%Y-%j"), DAYS[-1].strftime("%Y-%j"), parameters, weather, irr=irrigation, cons_p=True)
model.run()
with open(sys.argv[1], "w") as out:
    out.write(f"# pyfao56 {version('pyfao56')}, by tools/reference/pyfao56_season.py\n")
    out.write("demand_mm,rain_mm,irrigation_mm,ks,eta_mm,drainage_mm,depletion_mm\n")
    for _, row in model.odata.iterrows():
        numbers = [row["ETc"], row["Rain"], row["Irrig"], row["Ks"], row["ETa"], row["DP"], row["Dr"]]
        out.write(",".join(f"{value:.9f}" for value in numbers) + "\n")
