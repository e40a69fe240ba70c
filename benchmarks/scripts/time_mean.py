"""Mean over time as a plain script: read all, average, write."""

import sys

import netCDF4
import numpy as np

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    mean = old["tas"][:].mean(axis=0, dtype=np.float64)
    for name in ("lat", "lon"):
        new.createDimension(name, old[name].size)
        new.createVariable(name, "f8", (name,)).setncatts(old[name].__dict__)
        new[name][:] = old[name][:]
    made = new.createVariable(
        "tas", "f8", ("lat", "lon"), compression="zlib", complevel=4, shuffle=True
    )
    made.units = "K"
    made[:] = mean
