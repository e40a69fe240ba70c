"""The slope at each cell as a plain script: read all, least squares on decimal years, write."""

import sys

import netCDF4
import numpy as np

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    values = old["tas"][:].filled(np.nan)
    years = np.arange(values.shape[0]) / 365.0
    along = years - years.mean()
    mean = values.mean(axis=0, dtype=np.float64)
    slope = np.einsum("t,tyx->yx", along, values - mean, dtype=np.float64) / (
        along @ along
    )
    for name in ("lat", "lon"):
        new.createDimension(name, old[name].size)
        new.createVariable(name, "f8", (name,)).setncatts(old[name].__dict__)
        new[name][:] = old[name][:]
    made = new.createVariable(
        "tas_trend", "f4", ("lat", "lon"), compression="zlib", complevel=4, shuffle=True
    )
    made.units = "K (10 year)-1"
    made[:] = slope * 10
