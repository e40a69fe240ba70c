"""Stops with an error if the variable tas of two files does not agree to single precision."""

import sys

import netCDF4
import numpy as np

with netCDF4.Dataset(sys.argv[1]) as a, netCDF4.Dataset(sys.argv[2]) as b:
    assert a["tas"].shape == b["tas"].shape
    for start in range(0, a["tas"].shape[0], 365):
        part = slice(start, start + 365)
        np.testing.assert_allclose(
            np.ma.filled(a["tas"][part], np.nan), np.ma.filled(b["tas"][part], np.nan), atol=1e-4
        )
