"""From a dataset to a figure: one module a kind of drawing, declared like operations."""

from __future__ import annotations

from rhodolite.drawing.animation import Animation
from rhodolite.drawing.map import Map
from rhodolite.drawing.panels import Panels
from rhodolite.drawing.profile import Profile
from rhodolite.drawing.section import Section
from rhodolite.drawing.series import Series
from rhodolite.drawing.years import YearByYear

__all__ = ["DRAWINGS", "Animation", "Map", "Panels", "Profile", "Section", "Series", "YearByYear"]

DRAWINGS: dict[str, type] = {
    "map": Map,
    "panels": Panels,
    "series": Series,
    "years": YearByYear,
    "profile": Profile,
    "section": Section,
    "animation": Animation,
}
"""The drawings there are, by the word that follows the verb `draw`."""
