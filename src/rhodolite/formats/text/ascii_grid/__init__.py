"""Esri ASCII grids: a header of six lines, then the rows of one map from north to south.

A grid says neither what it holds nor of when, in which units or on which projection.
"""

from rhodolite.formats.text.ascii_grid.reader import read
from rhodolite.formats.text.ascii_grid.writer import write

__all__ = ["read", "write"]
