"""Axes of cells of one width, as formats have them that say where a grid begins and how wide its
cells are."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.model.variable import Variable

_ROUNDING = 10
"""Decimals, so that 54.05 does not become 54.050000000000004."""


_WORDS = {
    "latitude": ("lat", "degrees_north", "Y"),
    "longitude": ("lon", "degrees_east", "X"),
}
_SLACK = 1e-3
"""Of a cell, by which coordinates may go beyond the world."""


def can_be_degrees(
    longitudes: tuple[float, float], latitudes: tuple[float, float], cell: float
) -> bool:
    """Return whether the edges of a grid can be longitudes and latitudes.

    The first and the last row may lie on the poles, and so reach half a cell beyond.

    Parameters
    ----------
    longitudes, latitudes : tuple of float
        Outer edges of a grid.
    cell : float
        Height of a cell.
    """
    beyond = abs(cell) * (0.5 + _SLACK)
    south, north = sorted(latitudes)
    west, east = sorted(longitudes)
    in_range = west >= -360.0 and east <= 360.0 + beyond
    return in_range and south >= -90.0 - beyond and north <= 90.0 + beyond


def geographic_axis(
    role: str, first_edge: float, step: float, count: int
) -> list[Variable]:
    """Return latitudes or longitudes, and their bounds.

    Parameters
    ----------
    role : str
        `latitude` or `longitude`.
    first_edge : float
        Outer edge of the first cell, degrees.
    step : float
        Width of a cell, degrees; negative where coordinates fall.
    count : int
    """
    name, units, axis = _WORDS[role]
    edges = _round(first_edge + step * np.arange(count + 1))
    middles = InMemory(_round((edges[:-1] + edges[1:]) / 2))
    if role == "latitude":
        edges = np.clip(edges, -90.0, 90.0)
    bounds = np.stack([edges[:-1], edges[1:]], axis=1)
    about: dict[str, Any] = {
        "axis": axis,
        "standard_name": role,
        "long_name": role,
        "units": units,
        "bounds": f"{name}_bnds",
    }
    return [
        Variable(name, (name,), middles, about),
        Variable(f"{name}_bnds", (name, "bnds"), InMemory(np.sort(bounds, axis=1))),
    ]


def plane_axis(name: str, first_edge: float, step: float, count: int) -> Variable:
    """Return the middles of cells along x or y of a plane of which no more is known."""
    middles = first_edge + step * (np.arange(count) + 0.5)
    return Variable(name, (name,), InMemory(_round(middles)), {"axis": name.upper()})


def as_projected(axis: Variable) -> Variable:
    """Return an axis of a plane, `x` or `y`, as that of a projection in metres (CF 5.6)."""
    return axis.edit(
        standard_name=f"projection_{axis.name}_coordinate",
        long_name=f"{axis.name} of the projection",
        units="m",
    )


def _round(values: Array) -> Array:
    return np.round(values, _ROUNDING) + 0.0
