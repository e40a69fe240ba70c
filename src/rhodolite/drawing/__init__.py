"""From a dataset to a figure: one module a kind of drawing, declared like operations."""

from __future__ import annotations

from rhodolite.drawing.map import Map
from rhodolite.drawing.series import Series

__all__ = ["DRAWINGS", "Map", "Series"]

DRAWINGS: dict[str, type] = {"map": Map, "series": Series}
"""The drawings there are, by the word that follows the verb `draw`."""
