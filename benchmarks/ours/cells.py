"""Makes weights between grids, or the part of each cell that lies in each country.

python benchmarks/ours/cells.py "weights of 0.25 to 1 degree" | "countries on 0.25 degrees"
    | "weights of 250 x 250 rotated cells"
"""

import sys

import numpy as np

from rhodolite.kernels.sphere import from_rotated
from rhodolite.kernels.spherical_cells import corners_between
from rhodolite.model.space.mesh import Mesh
from rhodolite.operations.regridding.weights import conservative
from rhodolite.regions.outlines import country_names, find_outlines


def globe(step: float) -> Mesh:
    y, x = np.arange(-90, 90 + step / 2, step), np.arange(0, 360 + step / 2, step)
    return Mesh(("lat", "lon"), (y[1:] + y[:-1]) / 2, (x[1:] + x[:-1]) / 2, y, x)


if sys.argv[1] == "weights of 0.25 to 1 degree":
    print(conservative(globe(0.25), globe(1.0), 1).matrix.nnz)
elif sys.argv[1] == "countries on 0.25 degrees":
    print(
        globe(0.25)
        .covered_areas([find_outlines(name)[0] for name in country_names()])
        .nnz
    )
else:
    rows = np.linspace(-20, 20, 250)
    north, east = from_rotated(*np.meshgrid(rows, rows, indexing="ij"), 39.25, -162.0)
    print(
        conservative(
            Mesh(("y", "x"), north, east, corners=corners_between(north, east)),
            globe(1.0),
            1,
        ).matrix.nnz
    )
