"""A region of all times as a plain script: read it, write it compressed."""

import sys

import netCDF4
import numpy as np

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    rows = np.flatnonzero((old["lat"][:] >= 30) & (old["lat"][:] <= 75))
    columns = np.flatnonzero(old["lon"][:] <= 60)
    values = old["tas"][:, rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
    for name, picks in (("time", slice(None)), ("lat", rows), ("lon", columns)):
        kept = old[name][:][picks]
        new.createDimension(name, kept.size)
        new.createVariable(name, "f8", (name,)).setncatts(old[name].__dict__)
        new[name][:] = kept
    made = new.createVariable(
        "tas",
        "f4",
        ("time", "lat", "lon"),
        compression="zlib",
        complevel=4,
        shuffle=True,
        chunksizes=(1, *values.shape[1:]),
    )
    made.units = "K"
    made[:] = values
