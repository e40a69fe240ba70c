"""Stops with an error if the variable tas, or its trend, of two files does not agree to single precision."""

import sys

import netCDF4
import numpy as np

with netCDF4.Dataset(sys.argv[1]) as a, netCDF4.Dataset(sys.argv[2]) as b:
    name = "tas" if "tas" in a.variables else "tas_trend"
    assert a[name].shape == b[name].shape
    for start in range(0, a[name].shape[0], 365):
        part = slice(start, start + 365)
        np.testing.assert_allclose(np.ma.filled(a[name][part], np.nan), np.ma.filled(b[name][part], np.nan), atol=1e-4)
