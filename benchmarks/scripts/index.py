"""Rainfall anomaly index by month as a plain script: read all, sort each month's values, write."""

import sys

import netCDF4
import numpy as np

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    time = old["time"]
    months = np.array(
        [date.month for date in netCDF4.num2date(time[:], time.units, time.calendar)]
    )
    values = old["tas"][:].filled(np.nan)
    index = np.empty(values.shape)
    for month in range(1, 13):
        members = values[months == month].astype(np.float64)
        mean, ordered = members.mean(axis=0), np.sort(members, axis=0)
        low, high = ordered[:10].mean(axis=0), ordered[-10:].mean(axis=0)
        above = members >= mean
        index[months == month] = (
            3 * (members - mean) / np.where(above, high - mean, mean - low)
        )
    new.createDimension("time", time.size)
    for name in ("lat", "lon"):
        new.createDimension(name, old[name].size)
        new.createVariable(name, "f8", (name,)).setncatts(old[name].__dict__)
        new[name][:] = old[name][:]
    made = new.createVariable(
        "tas_index",
        "f4",
        ("time", "lat", "lon"),
        compression="zlib",
        complevel=4,
        shuffle=True,
    )
    made.units = "1"
    made[:] = index
