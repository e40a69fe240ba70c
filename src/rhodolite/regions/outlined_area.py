"""An outlined area: polygons on the sphere, and which places lie in them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.errors import warn
from rhodolite.regions.coastlines import within_any
from rhodolite.regions.polygons import polygons_in


@dataclass(frozen=True, eq=False)
class Outline:
    """A named area.

    Attributes
    ----------
    name : str
    shapes : ndarray of shapely polygons
        Parts of it that do not overlap, in degrees east and north; longitudes run on without a
        jump.
    outside : bool
        Whether the area is all that lies outside the shapes.
    about : mapping of str to object
        What the file says of it besides its name: texts and numbers.
    """

    name: str
    shapes: NDArray[Any]
    outside: bool = False
    about: Mapping[str, Any] = field(default_factory=dict)

    def holds(
        self, latitudes: NDArray[np.float64], longitudes: NDArray[np.float64]
    ) -> NDArray[np.bool_]:
        """Return which places, in degrees and of one shape, lie in the area; those that are NaN do
        not."""
        inside = within_any(self.shapes, longitudes, latitudes)
        return ~inside & np.isfinite(latitudes) if self.outside else inside


def join_by_name(outlines: Sequence[Outline]) -> list[Outline]:
    """Return outlines of which those of one name are one area, with a warning where there are
    such.
    """
    by_name: dict[str, list[Outline]] = {}
    for outline in outlines:
        by_name.setdefault(outline.name, []).append(outline)
    joined = []
    for name, parts in by_name.items():
        if len(parts) > 1:
            warn(f"{len(parts)} outlines are called {name} and count as one area")
        joined.append(replace(unite_outlines(parts), name=name, about=_shared(parts)))
    return joined


def _shared(outlines: Sequence[Outline]) -> dict[str, Any]:
    """Return what is said of all outlines alike."""
    first, *others = (outline.about for outline in outlines)
    return {
        key: value
        for key, value in first.items()
        if all(about.get(key) == value for about in others)
    }


def unite_outlines(outlines: Sequence[Outline]) -> Outline:
    """Return the one area that several make up, so that what they share counts once."""
    import shapely

    if len(outlines) == 1:
        return outlines[0]
    inner, outer = (
        _union([area for area in outlines if area.outside == outside])
        for outside in (False, True)
    )
    name = ", ".join(outline.name for outline in outlines)
    if not any(area.outside for area in outlines):
        return Outline(name, polygons_in(inner))
    return Outline(name, polygons_in(shapely.difference(outer, inner)), outside=True)


def _union(outlines: Sequence[Outline]) -> Any:
    """Return the union of outlines, all within -180 to 180 degrees east, where places are the same
    only once."""
    import shapely

    world, pieces = shapely.box(-180, -90, 180, 90), []
    for shape in [shape for outline in outlines for shape in outline.shapes]:
        west, _, east, _ = shape.bounds
        for turn in range(
            int(np.floor((west + 180) / 360)), int(np.floor((east + 180) / 360)) + 1
        ):
            moved = shapely.transform(
                shape, lambda points, by=360.0 * turn: points - [by, 0.0]
            )
            inside = (
                world.bounds[0] <= moved.bounds[0]
                and moved.bounds[2] <= world.bounds[2]
            )
            pieces.append(moved if inside else shapely.intersection(moved, world))
    return shapely.union_all(pieces)
