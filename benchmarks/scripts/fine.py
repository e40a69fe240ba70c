"""Work on daily maps of a fine grid as plain scripts do it: read all, calculate, write.

python benchmarks/scripts/fine.py WORK SOURCE TARGET
"""

import sys

import netCDF4
import numpy as np

work, source, target = sys.argv[1:]


def by_day(function):
    return np.stack([function(values[days == day], axis=0) for day in range(1, 366)])


def by_month(function):
    number = years * 12 + months
    return np.stack(
        [function(values[number == one], axis=0) for one in np.unique(number)]
    )


def departures():
    for day in range(1, 366):
        chosen = days == day
        values[chosen] -= (
            values[chosen].mean(axis=0, dtype=np.float64).astype(np.float32)
        )
    return values


def over_area():
    weights = np.cos(np.radians(latitudes))[:, None] * np.ones(values.shape[2])
    return np.array([np.average(one, weights=weights) for one in values])


def annual_percentile():
    return np.stack(
        [np.percentile(values[years == one], 95, axis=0) for one in np.unique(years)]
    )


WORKS = {
    "day-mean": lambda: by_day(np.mean),
    "day-p90": lambda: by_day(lambda part, axis: np.percentile(part, 90, axis=axis)),
    "day-anomaly": departures,
    "month-max": lambda: by_month(np.max),
    "year-p95": annual_percentile,
    "time-mean": lambda: values.mean(axis=0, dtype=np.float64)[None],
    "area-mean": over_area,
    "month-mean": lambda: np.stack(
        [values[months == one].mean(axis=0, dtype=np.float64) for one in range(1, 13)]
    ),
    "region": lambda: values[:, 480:661, :240],
}
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    time = old["time"]
    dates = netCDF4.num2date(time[:], time.units, time.calendar)
    days, months, years = (
        np.array([getattr(date, name) for date in dates])
        for name in ("dayofyr", "month", "year")
    )
    latitudes = old["lat"][:]
    old["tas"].set_auto_mask(False)
    values = np.empty(old["tas"].shape, np.float32)
    for first in range(0, len(values), 100):
        values[first : first + 100] = old["tas"][first : first + 100]
    made = WORKS[work]()
    names = [f"dimension_{at}" for at in range(made.ndim)]
    for name, length in zip(names, made.shape, strict=True):
        new.createDimension(name, length)
    chunks = (1, *made.shape[1:]) if made.ndim == 3 else None
    field = new.createVariable(
        "tas",
        "f4",
        names,
        compression="zlib",
        complevel=4,
        shuffle=True,
        chunksizes=chunks,
    )
    field.units = "K"
    field[:] = made
