"""Zarr stores in local folders: reads versions 2 and 3 of the specification, writes both.

Never reads a store over a network.
"""

from rhodolite.formats.zarr.reader import read
from rhodolite.formats.zarr.writer import write

__all__ = ["read", "write"]
