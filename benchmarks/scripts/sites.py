"""The series at sites as a plain script: read step by step, pick the nearest cells, write."""

import sys

import netCDF4
import numpy as np
import pandas

source, target = sys.argv[1:]
sites = pandas.read_csv(source.replace("half.nc", "sites.csv"))
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    rows = np.abs(old["lat"][:].data[:, None] - sites["lat"].to_numpy()).argmin(axis=0)
    columns = np.abs(
        (old["lon"][:].data[:, None] - sites["lon"].to_numpy() + 180) % 360 - 180
    ).argmin(axis=0)
    values = np.stack(
        [
            old["tas"][step].filled(np.nan)[rows, columns]
            for step in range(len(old["time"]))
        ],
        axis=1,
    )
    for name, kept in (("site", np.arange(len(sites))), ("time", old["time"][:])):
        new.createDimension(name, len(kept))
        new.createVariable(name, "f8", (name,))[:] = kept
    new.createVariable(
        "tas", "f4", ("site", "time"), compression="zlib", complevel=4, shuffle=True
    )[:] = values
