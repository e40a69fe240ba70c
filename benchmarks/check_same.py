"""Stops with an error if the variable tas, its trend or its index of two files does not agree to
single precision."""

import sys

import netCDF4
import numpy as np

with netCDF4.Dataset(sys.argv[1]) as a, netCDF4.Dataset(sys.argv[2]) as b:
    name = next(
        name for name in ("tas", "tas_trend", "tas_index") if name in a.variables
    )
    assert a[name].shape == b[name].shape
    for start in range(0, a[name].shape[0], 365):
        part = slice(start, start + 365)
        np.testing.assert_allclose(
            np.ma.filled(a[name][part], np.nan),
            np.ma.filled(b[name][part], np.nan),
            rtol=1e-4,
            atol=1e-4,
        )
