"""Day-of-year climatology as a plain script: read all, average by day, write."""

import sys

import netCDF4
import numpy as np

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    time = old["time"]
    days = np.array(
        [date.dayofyr for date in netCDF4.num2date(time[:], time.units, time.calendar)]
    )
    values = old["tas"][:].filled(np.nan)
    normals = np.stack(
        [
            np.nanmean(values[days == day], axis=0, dtype=np.float64)
            for day in range(1, 366)
        ]
    )
    new.createDimension("time", 365)
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
    made[:] = normals
