"""Mean over the area as a plain script: read all, weight by the sine of the cells' edges, average,
write."""

import sys

import netCDF4
import numpy as np

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    lat = old["lat"][:].filled()
    edges = np.clip(
        np.concatenate([[-90.5], (lat[1:] + lat[:-1]) / 2, [90.5]]), -90, 90
    )
    weights = np.abs(np.diff(np.sin(np.radians(edges))))
    values = old["tas"][:].mean(axis=2, dtype=np.float64)
    new.createDimension("time", old["time"].size)
    new.createVariable("time", "f8", ("time",)).setncatts(old["time"].__dict__)
    new["time"][:] = old["time"][:]
    made = new.createVariable("tas", "f8", ("time",))
    made.units = "K"
    made[:] = np.average(values, axis=1, weights=weights)
