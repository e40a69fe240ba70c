"""The horizontal grid: its cells' edges, spacing, direction and longitude convention."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.kernels.sphere import shortest_turn, widths, zone_areas
from rhodolite.model.axes import Coordinate, Role, is_in_order

_FURTHEST = {Role.LATITUDE: 90.1, Role.LONGITUDE: 3600.0}
"""Degrees at most, with some for rounding, and for longitudes that go on counting."""


@dataclass(frozen=True)
class AxisShape:
    """What one horizontal axis looks like.

    Attributes
    ----------
    first, last : float
        First and last coordinate, in degrees, in file order.
    spacing : float or None
        Distance between neighbours where it is the same everywhere (to 1 part in 1000).
    count : int
    direction : str
        ``increasing``, ``decreasing``, or ``neither`` where values go up and down or are repeated.
    """

    first: float
    last: float
    spacing: float | None
    count: int
    direction: str

    @classmethod
    def of(cls, values: Array) -> AxisShape:
        steps = np.diff(values)
        spacing = None
        if steps.size and np.all(
            np.abs(steps - steps.mean()) <= 1e-3 * abs(steps.mean())
        ):
            spacing = float(np.float32(abs(values[-1] - values[0]) / steps.size))
        direction = "increasing" if (steps > 0).all() else "neither"
        direction = "decreasing" if steps.size and (steps < 0).all() else direction
        return cls(float(values[0]), float(values[-1]), spacing, values.size, direction)


def covers_globe(longitudes: Array) -> bool:
    """Return whether evenly spaced longitudes (degrees) go all the way round.

    Parameters
    ----------
    longitudes : ndarray
        Degrees east, in any turn.

    Examples
    --------
    >>> covers_globe(np.arange(180.0, 540.0) % 360.0), covers_globe(np.arange(0.0, 359.0))
    (True, False)
    """
    if longitudes.size < 2:
        return False
    eastward = np.unwrap(longitudes, period=360.0)
    step = abs(eastward[-1] - eastward[0]) / (longitudes.size - 1)
    return bool(abs(step * longitudes.size - 360) < 0.01 * step)


def is_region(longitudes: Array) -> bool:
    """Return whether longitudes in order leave more of the globe out than a column or two.

    Parameters
    ----------
    longitudes : ndarray
        Degrees east, in any turn.

    Examples
    --------
    >>> is_region(np.array([350.0, 0.0, 10.0])), is_region(np.arange(180.0, 540.0) % 360.0)
    (True, False)
    """
    eastward = np.unwrap(longitudes, period=360.0)
    step = float(np.abs(np.diff(eastward)).max(initial=0.0))
    return bool(360.0 - np.ptp(eastward) > 2.01 * step)


def cell_edges(coordinate: Coordinate) -> Array:
    """Return the edges of the cells along a latitude or longitude, in degrees.

    Taken from the bounds where they join up, else halfway between neighbours, latitudes held
    within the poles. A last column that repeats the first has no width, so that nothing counts
    twice.

    Returns
    -------
    ndarray of float64, shape (n + 1,)

    Raises
    ------
    DataError
        If the coordinate neither increases nor decreases throughout.
    """
    bounds = coordinate.bounds
    values = coordinate.values
    if coordinate.role == Role.LONGITUDE:  # 0 ... 179, -180 ... -1 is in order, too
        values = np.unwrap(values, period=360.0)
    check_degrees(values, coordinate.role, coordinate.name)
    repeats = coordinate.role == Role.LONGITUDE and repeats_first(
        values, coordinate.slack
    )
    if not is_in_order(values):
        raise DataError(
            f"the {coordinate.role} coordinate ({coordinate.name}) goes up and down, so its cells "
            "have no order"
        )
    if bounds is not None and bounds.shape[0] == values.size:
        ordered = bounds if _same_direction(bounds, values) else bounds[:, ::-1]
        if coordinate.role == Role.LATITUDE:
            ordered = np.clip(ordered, -90, 90)
        if np.abs(ordered[1:, 0] - ordered[:-1, 1]).max(initial=0) <= _joint(ordered):
            return _without_repeat(np.append(ordered[:, 0], ordered[-1, 1]), repeats)
    if values.size == 1:
        half = 0.5
        edges = np.array([values[0] - half, values[0] + half])
    else:
        inner = (values[1:] + values[:-1]) / 2
        edges = np.concatenate(
            [
                [values[0] - (inner[0] - values[0])],
                inner,
                [values[-1] + (values[-1] - inner[-1])],
            ]
        )
    return (
        np.clip(edges, -90, 90)
        if coordinate.role == Role.LATITUDE
        else _without_repeat(edges, repeats)
    )


def repeats_first(longitudes: Array, near: float) -> bool:
    """Return whether the last column is the first once more, 360 degrees on.

    Parameters
    ----------
    longitudes : ndarray
        Degrees east.
    near : float
        Distance in degrees that counts as the same place.
    """
    return longitudes.size > 2 and bool(
        abs(abs(longitudes[-1] - longitudes[0]) - 360) <= max(near, 1e-6)
    )


def _without_repeat(edges: Array, repeats: bool) -> Array:
    """Return edges of which the last cell has no width where it repeats the first."""
    return np.append(edges[:-1], edges[-2]) if repeats else edges


def area_weights(coordinate: Coordinate) -> Array:
    """Return weights along a latitude or longitude, whose product is the true area of a cell.

    The area between two latitudes and two longitudes is R^2 (sin north - sin south) (east - west).

    Returns
    -------
    ndarray of float64, shape (n,)
    """
    measure = zone_areas if coordinate.role == Role.LATITUDE else widths
    return measure(cell_bounds(coordinate))[:, 0]


def cell_bounds(coordinate: Coordinate) -> Array:
    """Return both ends of each cell along a latitude or longitude, in degrees, whether they join up
    or not.

    Returns
    -------
    ndarray of float64, shape (n, 2)
    """
    bounds, values = coordinate.bounds, coordinate.values
    if (
        bounds is None
        or bounds.shape[0] != values.size
        or not np.isfinite(bounds).all()
    ):
        edges = cell_edges(coordinate)
        return np.stack([edges[:-1], edges[1:]], axis=1)
    bounds_of_cells = (
        np.clip(bounds, -90, 90) if coordinate.role == Role.LATITUDE else bounds.copy()
    )
    if coordinate.role == Role.LONGITUDE and repeats_first(
        np.unwrap(values, period=360.0), coordinate.slack
    ):
        bounds_of_cells[-1] = bounds_of_cells[-1, :1]
    return bounds_of_cells


def joins_up(coordinate: Coordinate) -> bool:
    """Return whether each cell along a latitude or longitude begins where another ends, as far as
    bounds say.
    """
    bounds = coordinate.bounds
    if (
        bounds is None
        or bounds.shape[0] != coordinate.values.size
        or not np.isfinite(bounds).all()
        or len(bounds) < 2
    ):
        return True
    ordered = bounds if _same_direction(bounds, coordinate.values) else bounds[:, ::-1]
    apart = np.abs(ordered[1:, 0] - ordered[:-1, 1])
    if coordinate.role == Role.LONGITUDE:
        apart = np.abs(shortest_turn(apart))
    return bool(apart.max() <= _joint(ordered))


def _joint(bounds: Array) -> float:
    """Return how far apart the ends of neighbouring cells may lie and still be the same edge, in
    degrees."""
    return max(1e-5, 1e-3 * float(np.abs(np.diff(bounds, axis=1)).min()))


def _same_direction(bounds: Array, values: Array) -> bool:
    if values.size == 1:
        return bool(bounds[0, 0] <= bounds[0, 1])
    return bool((bounds[0, 1] > bounds[0, 0]) == (values[1] > values[0]))


def check_degrees(values: Array, role: Role, name: str) -> None:
    """Refuse degrees that are no place on the globe.

    Parameters
    ----------
    values : ndarray
        In degrees; missing ones are passed over.
    role : Role
        Latitude or longitude.
    name : str
        Of the coordinate.

    Raises
    ------
    DataError
        With the first of them.
    """
    wrong = np.abs(values) > _FURTHEST.get(role, np.inf)
    if wrong.any():
        raise DataError(
            f"the {role} coordinate ({name}) holds {values[wrong].flat[0]:g} degrees, which is no "
            f"{role}; repair the file first"
        )
