"""From half a degree to one degree as a plain script that knows the weights: read, a sparse
product, write."""

import sys

import netCDF4
import numpy as np
from scipy import sparse

source, target = sys.argv[1:]
with netCDF4.Dataset(source) as old, netCDF4.Dataset(target, "w") as new:
    latitudes = old["lat"][:].data
    rows, columns = np.arange(-89.5, 90), np.arange(0.5, 360)
    size = np.sin(np.radians(latitudes + 0.25)) - np.sin(np.radians(latitudes - 0.25))
    along = sparse.kron(
        sparse.eye_array(rows.size), np.ones((1, 2))
    ) @ sparse.diags_array(size)
    along = sparse.diags_array(1 / along.sum(axis=1)) @ along
    weights = sparse.csr_array(
        sparse.kron(
            along, sparse.kron(sparse.eye_array(columns.size), np.full((1, 2), 0.5))
        )
    )
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
    for first in range(0, len(old["time"]), 50):
        block = old["tas"][first : first + 50].filled(np.nan)
        values = weights @ block.reshape(len(block), -1).T
        made[first : first + len(block)] = values.T.reshape(
            len(block), rows.size, columns.size
        )
