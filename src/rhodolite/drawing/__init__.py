"""From a dataset to a figure: one module a kind of drawing, declared like operations."""

from __future__ import annotations

from rhodolite.drawing.map import Map
from rhodolite.drawing.panels import Panels
from rhodolite.drawing.series import Series
from rhodolite.drawing.years import YearByYear

__all__ = ["DRAWINGS", "Map", "Panels", "Series", "YearByYear"]

DRAWINGS: dict[str, type] = {"map": Map, "panels": Panels, "series": Series, "years": YearByYear}
"""The drawings there are, by the word that follows the verb `draw`."""
