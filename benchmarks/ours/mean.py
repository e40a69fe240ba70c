"""The mean over time or over the area of the variable tas, written as NetCDF.

python benchmarks/ours/mean.py SOURCE TARGET time|area
"""

import sys
from pathlib import Path

import rhodolite
from rhodolite.model.axes import Role
from rhodolite.operations.axis_reduction.area_mean import mean_over

source, target, over = sys.argv[1:]
data = rhodolite.read(source)
roles = (Role.TIME,) if over == "time" else (Role.LATITUDE, Role.LONGITUDE)
mean = mean_over(data, data["tas"], roles)
kept = [
    v
    for v in data.variables.values()
    if v.name != "tas" and set(v.dimensions) <= set(mean.dimensions)
]
rhodolite.write(
    data.with_variables([*kept, mean], files=()), Path(target), overwrite=True
)
