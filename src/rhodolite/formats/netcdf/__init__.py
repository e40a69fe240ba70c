"""NetCDF: reads every variant that the NetCDF library opens, writes NetCDF-4."""

from rhodolite.formats.netcdf.reader import read
from rhodolite.formats.netcdf.writer import write

__all__ = ["read", "write"]
