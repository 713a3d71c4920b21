#!/usr/bin/env python3
"""Daily ET0 of a real public hourly year by the library refet.

Usage: python tools/reference/real_year.py 723170TYA.CSV crates/formats/tests/data/real_year.csv

The year is the TMY3 file of Greensboro (US National Renewable Energy Laboratory, National Solar
Radiation Data Base) that the PyPI package pvlib 0.16.1 carries in pvlib/data; it is fetched by package
name (bin/test) and not kept here. Days are made of its hours with pandas: lowest and highest dry bulb,
mean vapour pressure of the dew points, sum of global radiation, mean wind at 10 m.
"""
import sys

import pandas as pd
import refet
from refet import calcs

source, target = sys.argv[1:]
meta = open(source).readline().strip().split(",")
lat, elev = float(meta[4]), float(meta[6])
hours = pd.read_csv(source, skiprows=1)
date = pd.to_datetime(hours["Date (MM/DD/YYYY)"], format="%m/%d/%Y")
frame = pd.DataFrame({
    "date": date,
    "temp": hours["Dry-bulb (C)"],
    "ea": calcs.sat_vapor_pressure(hours["Dew-point (C)"].to_numpy(dtype=float)),
    "rs": hours["GHI (W/m^2)"] * 0.0036,
    "wind": hours["Wspd (m/s)"],
})
days = frame.groupby("date").agg(tmin=("temp", "min"), tmax=("temp", "max"), ea=("ea", "mean"), rs=("rs", "sum"),
                                 wind=("wind", "mean"), n=("temp", "size")).reset_index()
assert (days.n == 24).all()
eto = refet.Daily(tmin=days.tmin.to_numpy(), tmax=days.tmax.to_numpy(), ea=days.ea.to_numpy(),
                  rs=days.rs.to_numpy(), uz=days.wind.to_numpy(), zw=10.0, elev=elev, lat=lat,
                  doy=days.date.dt.dayofyear.to_numpy().astype(float), method="asce").eto()
with open(target, "w") as out:
    out.write(f"# refet {refet.__version__} Daily(method='asce') on pvlib 0.16.1 pvlib/data/723170TYA.CSV, by tools/reference/real_year.py\n")
    out.write("date,tmin,tmax,et0\n")
    for row, et in zip(days.itertuples(), eto):
        out.write(f"{row.date.date()},{row.tmin},{row.tmax},{et:.9f}\n")
