#!/usr/bin/env python3
"""Writes the reference vectors that crates/core/tests/reference.rs checks against.

Usage, in a virtual environment with requirements.txt installed:
    python tools/reference/generate.py crates/core/tests/data

The weather is drawn from a fixed seed and is only a carrier; what is compared is the ET0 that the
public libraries refet (ASCE-EWRI) and pyet (FAO-56, Hargreaves) compute from it, and a water
balance written here straight from FAO-56 equations 82 to 88.
"""
import csv
import math
import pathlib
import sys

import numpy as np
import pandas as pd
import pyet
import refet
from refet import calcs

OUT = pathlib.Path(sys.argv[1])
RNG = np.random.default_rng(20260714)
SITES = [  # latitude, longitude, elevation, wind height
    (46.2, 8.1, 1040.0, 2.0),
    (-33.9, 18.9, 120.0, 3.0),
    (5.0, -60.0, 10.0, 10.0),
    (64.1, -21.9, 60.0, 2.0),
]


def header(handle, what):
    handle.write(f"# {what}\n")
    handle.write(f"# refet {refet.__version__}, pyet {pyet.__version__}, numpy {np.__version__}\n")


def daily():
    with open(OUT / "daily.csv", "w", newline="") as handle:
        header(handle, "daily short-reference ET0: refet Daily(method='asce').eto(), pyet.hargreaves()")
        out = csv.writer(handle, lineterminator="\n")
        out.writerow("latitude,elevation,wind_height,date,tmin,tmax,ea,solar,wind,refet,hargreaves".split(","))
        for lat, _, elev, zw in SITES:
            dates = pd.date_range("2024-01-01", periods=366, freq="D")
            doy = dates.dayofyear.to_numpy().astype(float)
            ra = calcs.ra_daily(math.radians(lat), doy)
            warm = 14 + 12 * np.cos(2 * math.pi * (doy - (201 if lat > 0 else 18)) / 365)
            tmean = np.round(warm + RNG.normal(0, 3, doy.size), 1)
            span = np.round(RNG.uniform(3, 16, doy.size), 1)
            tmin, tmax = np.round(tmean - span / 2, 1), np.round(tmean + span / 2, 1)
            ea = np.round(calcs.sat_vapor_pressure(tmin) * RNG.uniform(0.6, 1.0, doy.size), 3)
            rs = np.round(ra * RNG.uniform(0.15, 0.76, doy.size), 2)
            wind = np.round(RNG.gamma(2.0, 1.2, doy.size), 2)
            eto = refet.Daily(tmin=tmin, tmax=tmax, ea=ea, rs=rs, uz=wind, zw=zw, elev=elev,
                              lat=lat, doy=doy, method="asce").eto()
            index = pd.DatetimeIndex(dates)
            hs = pyet.hargreaves(tmean=pd.Series((tmin + tmax) / 2, index), tmax=pd.Series(tmax, index),
                                 tmin=pd.Series(tmin, index), lat=math.radians(lat)).to_numpy()
            for i, date in enumerate(dates):
                out.writerow([lat, elev, zw, date.date(), tmin[i], tmax[i], ea[i], rs[i], wind[i],
                              f"{eto[i]:.9f}", f"{max(hs[i], 0):.9f}"])


def hourly():
    """refet's own hourly class sets the night cloudiness to 1; here it is carried, as ASCE-EWRI has
    it, and put into refet's equations."""
    with open(OUT / "hourly.csv", "w", newline="") as handle:
        header(handle, "hourly short-reference ET0: refet Hourly(method='asce') with f_cd carried over night")
        out = csv.writer(handle, lineterminator="\n")
        out.writerow("latitude,longitude,elevation,wind_height,start_utc,offset_h,temp,rh,solar_w_m2,wind,et0".split(","))
        for (lat, lon, elev, zw), first in zip(SITES[:3], ["2024-06-25", "2024-12-28", "2024-03-18"]):
            offset = round(lon / 15)
            local = pd.date_range(first + " 10:00", periods=240, freq="h")
            utc = local - pd.Timedelta(hours=offset)
            doy = local.dayofyear.to_numpy().astype(float)
            hour = utc.hour.to_numpy().astype(float)
            ra = calcs.ra_hourly(math.radians(lat), math.radians(lon), doy, hour + 0.5)
            clear = RNG.uniform(0.25, 0.78, local.size)
            w_m2 = np.round(ra * clear / 0.0036, 1)
            rs = w_m2 * 0.0036
            temp = np.round(17 + 7 * np.cos(2 * math.pi * (local.hour.to_numpy() - 15) / 24)
                            + RNG.normal(0, 1, local.size), 1)
            rh = np.round(np.clip(65 - 25 * np.cos(2 * math.pi * (local.hour.to_numpy() - 15) / 24)
                                  + RNG.normal(0, 5, local.size), 15, 100), 0)
            wind = np.round(RNG.gamma(2.0, 1.0, local.size), 2)
            ea = calcs.sat_vapor_pressure(temp) * rh / 100
            model = refet.Hourly(tmean=temp, ea=ea, rs=rs, uz=wind, zw=zw, elev=elev, lat=lat, lon=lon,
                                 doy=doy, time=hour, method="asce")
            sc = calcs.seasonal_correction(doy)
            omega = calcs.solar_hour_angle(calcs.solar_time_rad(math.radians(lon), hour + 0.5, sc))
            delta = calcs.declination(doy)
            beta = np.arcsin(np.sin(math.radians(lat)) * np.sin(delta)
                             + np.cos(math.radians(lat)) * np.cos(delta) * np.cos(omega))
            ratio = np.divide(rs, model.rso, out=np.ones_like(rs), where=model.rso > 0)
            fcd = pd.Series(np.where(beta >= 0.3, 1.35 * np.clip(ratio, 0.3, 1) - 0.35, np.nan)).ffill().bfill()
            model.rnl = calcs.rnl_hourly(model.tmean, model.ea, fcd.to_numpy())
            model.rn = calcs.rn_hourly(model.rs, model.rnl)
            eto = model.eto()
            for i, t in enumerate(utc):
                out.writerow([lat, lon, elev, zw, t.strftime("%Y-%m-%dT%H:%M:%SZ"), offset, temp[i], rh[i],
                              w_m2[i], wind[i], f"{eto[i]:.9f}"])


def balance():
    """FAO-56 eq. 82 to 88 with constant p, Ks from the depletion of the day before, no runoff."""
    with open(OUT / "balance.csv", "w", newline="") as handle:
        handle.write("# FAO-56 eq. 82-88 by tools/reference/generate.py\n")
        out = csv.writer(handle, lineterminator="\n")
        out.writerow("taw,p,demand,rain,irrigation,depletion,etc,drainage,ks".split(","))
        for fc, wp, zr, p, start in [(0.32, 0.12, 0.8, 0.4, 55.0), (0.15, 0.06, 0.4, 0.5, 0.0), (0.36, 0.2, 0.15, 0.3, 20.0)]:
            taw = 1000 * (fc - wp) * zr
            raw = p * taw
            dr = start
            for _ in range(200):
                etc = round(RNG.uniform(0.2, 6.5), 2)
                rain = round(RNG.exponential(9), 1) if RNG.random() < 0.2 else 0.0
                irrigation = round(RNG.uniform(4, 14), 1) if RNG.random() < 0.1 else 0.0
                ks = 1.0 if dr <= raw else (taw - dr) / ((1 - p) * taw)
                adjusted = ks * etc
                dp = max(rain + irrigation - adjusted - dr, 0.0)
                dr = dr - rain - irrigation + adjusted + dp
                dr = max(dr, 0.0)
                assert dr <= taw
                out.writerow([f"{taw:.6f}", p, etc, rain, irrigation, f"{dr:.9f}", f"{adjusted:.9f}", f"{dp:.9f}", f"{ks:.9f}"])


daily()
hourly()
balance()
