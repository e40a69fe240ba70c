"""From half a degree to one degree as a plain script: an interpolation object for each step in
time."""

import sys

import netCDF4
import numpy as np
from scipy.interpolate import RegularGridInterpolator

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    latitudes, longitudes = old["lat"][:].data, old["lon"][:].data
    around = np.concatenate([[longitudes[-1] - 360], longitudes, [longitudes[0] + 360]])
    rows, columns = np.arange(-89.5, 90), np.arange(0.5, 360)
    places = np.stack(np.meshgrid(rows, columns, indexing="ij"), axis=-1)
    for name, values in (("time", old["time"][:]), ("lat", rows), ("lon", columns)):
        new.createDimension(name, len(values))
        new.createVariable(name, "f8", (name,)).setncatts(old[name].__dict__)
        new[name][:] = values
    made = new.createVariable(
        "tas",
        "f4",
        ("time", "lat", "lon"),
        compression="zlib",
        complevel=4,
        shuffle=True,
        chunksizes=(1, rows.size, columns.size),
    )
    made.units = "K"
    for step in range(len(old["time"])):
        field = old["tas"][step].filled(np.nan)
        field = np.concatenate([field[:, -1:], field, field[:, :1]], axis=1)
        made[step] = RegularGridInterpolator((latitudes, around), field)(places)
