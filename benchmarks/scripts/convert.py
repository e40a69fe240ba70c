"""Kelvin to degrees Celsius as a plain script: read all, subtract, write compressed."""

import sys

import netCDF4

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    values = old["tas"][:].astype("f4") - 273.15
    for name in ("time", "lat", "lon"):
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
        chunksizes=old["tas"].chunking(),
    )
    made.units = "degC"
    made[:] = values
