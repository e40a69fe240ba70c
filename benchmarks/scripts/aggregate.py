"""Means of each month as a plain script: read a month, average, write."""

import itertools
import sys

import netCDF4
import numpy as np

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    time = old["time"]
    months = np.array(
        [
            date.year * 12 + date.month
            for date in netCDF4.num2date(time[:], time.units, time.calendar)
        ]
    )
    starts = [*np.unique(months, return_index=True)[1], months.size]
    new.createDimension("time", len(starts) - 1)
    for name in ("lat", "lon"):
        new.createDimension(name, old[name].size)
        new.createVariable(name, "f8", (name,)).setncatts(old[name].__dict__)
        new[name][:] = old[name][:]
    made = new.createVariable(
        "tas",
        "f4",
        ("time", "lat", "lon"),
        compression="zlib",
        complevel=4,
        shuffle=True,
    )
    made.units = "K"
    for step, (start, stop) in enumerate(itertools.pairwise(starts)):
        made[step] = np.nanmean(
            old["tas"][start:stop].filled(np.nan), axis=0, dtype=np.float64
        )
