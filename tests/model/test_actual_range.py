"""Ranges that variables state are those of their values, whatever was done with them."""

from __future__ import annotations

import netCDF4
import numpy as np
import pytest

from conftest import run_here, write_plain

STEPS = [
    "subset a.nc --years 2001 --lat 5..25",
    "subset a.nc --lat 5..25",
    "convert a.nc --units degC",
    "convert a.nc --latitude descending",
    "climatology a.nc --min-years 1 --min-coverage 0",
    "aggregate a.nc --to month",
    "anomaly a.nc --min-years 1 --min-coverage 0",
    "window a.nc --width 5days",
    "detrend a.nc",
    "trend a.nc",
    "summarise a.nc",
    "regrid a.nc --to 5",
    "calc a.nc --formula tas*2 --name tas",
    "annotate a.nc --set tas:long_name=air",
    "subset a.nc b.nc",
    "summarise a.nc c.nc --members --over ensemble",
    "subset a.nc --missing-value 281.5",
]


@pytest.mark.parametrize("line", STEPS)
def test_a_range_is_that_of_the_values_or_is_not_stated(tmp_path, line):
    values = 280 + np.arange(500 * 12).reshape(500, 3, 4) / 1000
    for name, first in (("a", 0), ("b", 500), ("c", 0)):
        path = tmp_path / f"{name}.nc"
        part = values + (name == "c") + first
        write_plain(
            path, part, times=first + np.arange(500.0), lats=np.array([0.0, 10, 20])
        )
        with netCDF4.Dataset(path, "a") as file:
            for variable in file.variables.values():
                ends = [variable[:].min(), variable[:].max()]
                variable.actual_range = np.array(ends, variable.dtype)
    answer = run_here(*line.split(), "-o", "o.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    with netCDF4.Dataset(tmp_path / "o.nc") as file:
        for variable in file.variables.values():
            if "actual_range" in variable.ncattrs():
                ends = [variable[:].min(), variable[:].max()]
                np.testing.assert_allclose(variable.actual_range, ends, rtol=1e-6)
        # What nothing was done with keeps it.
        if "annotate" in line:
            assert "actual_range" in file["tas"].ncattrs()
