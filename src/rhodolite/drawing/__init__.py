"""The pictures that a dataset can be drawn as, and the parts that they share.

One module per kind of picture in `plots`, what several share in `parts`, options in `options`.
Nothing here reads or writes files; a figure is handed back.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

from rhodolite import extensions
from rhodolite.errors import UsageError, nearest_names
from rhodolite.extensions import find_extensions, load_extension

if TYPE_CHECKING:
    from rhodolite.drawing.base import Drawing

SUMMARIES = {
    "map": "A field on a map with coastlines, country borders and a legend.",
    "panels": "Small maps of the twelve months, the four seasons, years, levels or members, with "
    "one legend.",
    "series": "Curves over time, of a cell or of the mean over the area.",
    "years": "One curve for each year on an axis from January to December, or from another month.",
    "profile": "Curves over height, or against latitude or longitude, coloured by level or time.",
    "curve": "Curves against an axis of their own: return periods, frequencies, quantiles, "
    "patterns.",
    "section": "A field over latitude and height, time and latitude, or longitude and time.",
    "animation": "A map for each step in time, one after another, with one legend and the date in "
    "the title.",
}
"""The summary of every drawing, by the word that follows the verb `draw`."""
_PLACES = {"years": ("year_overlay", "YearOverlay")}


def drawing(kind: str) -> type[Drawing]:
    """Return the drawing that a word stands for.

    Parameters
    ----------
    kind : str
        Word that follows `draw`.

    Raises
    ------
    UsageError
        If there is no such drawing.
    """
    if kind not in SUMMARIES:
        return _drawing_elsewhere(kind)
    module, name = place_of(kind)
    cls: type[Drawing] = getattr(import_module(module), name)
    return cls


def _drawing_elsewhere(kind: str) -> type[Drawing]:
    from rhodolite.drawing.base import Drawing

    if not is_drawing(kind):
        raise UsageError(f"no drawing '{kind}'. {nearest_names(kind, drawing_names())}")
    cls: type[Drawing] = load_extension(extensions.DRAWINGS, kind, Drawing)
    cls.verb = f"draw {kind}"
    return cls


def is_drawing(kind: str) -> bool:
    """Return whether there is a drawing of this word, here or in another package."""
    return kind in SUMMARIES or kind in find_extensions(extensions.DRAWINGS)


def drawing_names() -> list[str]:
    """Return the words of all drawings, those of other packages last."""
    return list(dict.fromkeys([*SUMMARIES, *find_extensions(extensions.DRAWINGS)]))


def place_of(kind: str) -> tuple[str, str]:
    """Return the module and the class of a drawing."""
    module, name = _PLACES.get(kind, (kind, kind.capitalize()))
    return f"rhodolite.drawing.plots.{module}", name


def all_drawings() -> dict[str, type[Drawing]]:
    """Return every drawing of this package by its word."""
    return {kind: drawing(kind) for kind in SUMMARIES}
