"""From what people ask for to the indices along each axis."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError, warn
from rhodolite.kernels.sphere import cell_with, eastward_from, shortest_turn
from rhodolite.model.axes import Coordinate, Role, is_in_order
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.space.axis_cells import cell_edges, covers_globe
from rhodolite.model.space.extent import Extent, find_ends
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.space.range_text import (
    LatitudeRange,
    LongitudeRange,
    Position,
    format_latitude,
    format_longitude,
)
from rhodolite.model.time.period_text import Months, Period, Season, Years
from rhodolite.model.time.steps_of_periods import steps_covering, steps_of, steps_within
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_labels import time_labels
from rhodolite.operations.selection.longitude_ranges import find_way
from rhodolite.operations.variables.references import with_bounds

Indices = NDArray[np.intp]


def take_steps(dataset: Dataset, steps: Indices) -> Dataset:
    """Return a dataset at some of its times, with bounds where what is left no longer tells what
    each time stands for.

    Januaries alone are a year apart, and still stand for a month each.

    Parameters
    ----------
    dataset : Dataset
    steps : ndarray of int
        Indices of the steps to keep.
    """
    coordinate, axis = dataset.need(Role.TIME), dataset.need_time()
    part = take(dataset, {str(coordinate.dimension): steps})
    if axis.bounds is not None or axis.cell_ticks is None or axis.instants:
        return part
    cells, left = axis.cell_ticks[steps], part.need_time().cell_ticks
    if left is not None and np.array_equal(left, cells):
        return part
    return with_bounds(part, coordinate.name, axis.from_ticks(cells))


def take_cells(dataset: Dataset, role: Role, cells: Indices) -> Dataset:
    """Return a dataset at some of its rows or columns, with bounds where what is left no longer
    tells their width.

    Parameters
    ----------
    dataset : Dataset
    role : Role
    cells : ndarray of int
        Indices to keep.
    """
    coordinate = dataset.need(role)
    part = take(dataset, {str(coordinate.dimension): cells})
    onward = np.unwrap(coordinate.values, period=360.0)
    known = coordinate.bounds is not None
    if known or coordinate.values.size < 2 or not is_in_order(onward):
        return part
    edges = cell_edges(coordinate)
    turned = onward - coordinate.values
    bounds = (np.stack([edges[:-1], edges[1:]], axis=1) - turned[:, None])[cells]
    left = part.need(role)
    if is_in_order(np.unwrap(left.values, period=360.0)):
        widths = np.abs(np.diff(cell_edges(left)))
        if np.allclose(widths, np.abs(np.diff(bounds, axis=1)[:, 0]), rtol=1e-4):
            return part
    return with_bounds(part, coordinate.name, bounds)


def take_block(dataset: Dataset, rows: Indices, columns: Indices) -> Dataset:
    """Return some rows and columns of a grid, with bounds where what is left no longer tells what
    each cell covers.

    Parameters
    ----------
    dataset : Dataset
    rows, columns : ndarray of int
        Indices along latitude and longitude, or along the two dimensions that both have.
    """
    if not dataset.axes.curvilinear:
        return take_cells(
            take_cells(dataset, Role.LATITUDE, rows), Role.LONGITUDE, columns
        )
    names = dataset.axes.curvilinear
    along = dataset.variables[names[0]].dimensions
    part = take(dataset, dict(zip(along, (rows, columns), strict=True)))
    shape = dataset.variables[names[0]].shape
    if min(shape) < 2 or any(
        "bounds" in dataset.variables[name].attributes for name in names
    ):
        return part
    corners = [known[np.ix_(rows, columns)] for known in _corners(dataset)]
    small = min(rows.size, columns.size) < 2
    if not small and all(
        np.allclose(left, known, rtol=0, atol=1e-9)
        for left, known in zip(_corners(part), corners, strict=True)
    ):
        return part
    for name, known in zip(names, corners, strict=True):
        part = with_bounds(part, name, known)
    return part


def _corners(dataset: Dataset) -> tuple[Array, Array]:
    corners = mesh_of(dataset).corners
    assert corners is not None
    return corners


def latitude_indices(coordinate: Coordinate, wanted: LatitudeRange) -> Indices:
    """Return the rows whose centres lie in the range; the nearest row for a single latitude.

    Parameters
    ----------
    coordinate : Coordinate
    wanted : LatitudeRange
        What was asked for.
    """
    values = coordinate.values
    if wanted.south is not None and wanted.south == wanted.north:
        at = cell_with(cell_edges(coordinate), wanted.south)
        rows = np.array([] if at is None else [at], dtype=np.intp)
    else:
        slack = coordinate.slack
        low = -np.inf if wanted.south is None else wanted.south - slack
        high = np.inf if wanted.north is None else wanted.north + slack
        rows = np.flatnonzero((values >= low) & (values <= high))
    if not rows.size:
        ends = [format_latitude(edge) for edge in (values.min(), values.max())]
        raise DataError(
            f"--lat {wanted}: no cell centre lies there; the data's run from {ends[0]} to "
            f"{ends[1]}, {_spacing_words(values)}"
        )
    return rows


def longitude_indices(
    coordinate: Coordinate, wanted: LongitudeRange
) -> tuple[Indices, Array]:
    """Return the columns whose centres lie in the range, eastward, and by how much each is turned.

    Parameters
    ----------
    coordinate : Coordinate
    wanted : LongitudeRange
        What was asked for.

    Returns
    -------
    tuple of ndarray
        Indices from west to east, and for each the multiple of 360 degrees to add to its
        longitude so that the result increases from the west end as typed.
    """
    values = coordinate.values
    slack = coordinate.slack
    if wanted.west is not None and wanted.west == wanted.east:
        west = wanted.west
        at = longitude_cell(coordinate, west)
        columns = np.array([] if at is None else [at], dtype=np.intp)
        reached = values[columns] + np.round((west - values[columns]) / 360.0) * 360.0
    else:
        west, width = find_way(wanted, values, goes_round=covers_globe(values))
        beyond = np.mod(values - west + slack, 360.0) - slack
        columns = np.flatnonzero(
            beyond <= width + slack if width < 360 else beyond < 360 - slack
        )
        columns = columns[np.argsort(beyond[columns], kind="stable")]
        # Some grids repeat their first column 360 degrees on; it is taken once.
        columns = columns[np.diff(beyond[columns], prepend=-np.inf) > slack]
        reached = west + beyond[columns]
    if not columns.size:
        ends = [format_longitude(end) for end in find_ends(values)]
        raise DataError(
            f"--lon {wanted}: no cell centre lies there; the data's run from {ends[0]} to "
            f"{ends[1]}, {_spacing_words(values)}"
        )
    return columns, np.round((reached - values[columns]) / 360.0) * 360.0


def longitude_cell(coordinate: Coordinate, wanted: float) -> int | None:
    """Return the column whose cell holds a longitude; None where none does."""
    edges = cell_edges(coordinate)
    west = min(edges[0], edges[-1])
    at = cell_with(edges, eastward_from(west, wanted))
    if at is None and covers_globe(
        coordinate.values
    ):  # rounding left a gap between last and first
        return int(np.argmin(np.abs(shortest_turn(coordinate.values - wanted))))
    return at


def position_indices(dataset: Dataset, place: Position) -> tuple[int, int]:
    """Return row and column of the cell that holds a position.

    Raises
    ------
    DataError
        If the grid does not reach there.
    """
    latitude, longitude = dataset.need(Role.LATITUDE), dataset.need(Role.LONGITUDE)
    row = cell_with(cell_edges(latitude), place.latitude)
    column = longitude_cell(longitude, place.longitude)
    if row is None or column is None:
        extent = Extent.of(latitude.values, longitude.values)
        raise DataError(
            f"--at {place}: lies outside the data, which cover {extent.words()}"
        )
    return row, column


def time_indices(
    axis: TimeAxis,
    period: Period | None,
    months: Months | None,
    season: Season | None,
    years: Years | None,
) -> Indices:
    """Return the steps that satisfy all conditions given.

    With a season the years are those that the season belongs to: DJF of 2014 begins in
    December 2013.
    """
    chosen = np.ones(len(axis), dtype=bool)
    asked = []
    if period is not None:
        chosen &= steps_of(axis, period)
        _tell_covering(axis, period)
        asked.append(f"--time {period}")
    if months is not None:
        chosen &= np.isin(axis.months, months.numbers)
        asked.append(f"--months {months}")
    if season is not None:
        chosen &= np.isin(axis.months, season.months)
        asked.append(f"--season {season}")
    if years is not None:
        late = season.late_months if season is not None else ()
        chosen &= years.holds(axis.season_years(late))
        asked.append(f"--years {years}")
    steps = np.flatnonzero(chosen)
    if not steps.size:
        raise DataError(
            f"{' '.join(asked)}: no time step fits; the data hold {len(axis)}, from "
            f"{axis.span.first} to {axis.span.last} ({axis.step})"
        )
    return steps


def _tell_covering(axis: TimeAxis, period: Period) -> None:
    """Say which step is taken where none lies within a period."""
    covering = np.flatnonzero(steps_covering(axis, period))
    if covering.size and not steps_within(axis, period).any():
        label = time_labels(axis)[int(covering[0])]
        warn(f"--time {period} lies within {label}, and this step is taken")


def _spacing_words(values: Array) -> str:
    if values.size < 2:
        return "a single one"
    steps = np.diff(np.unwrap(values, period=360.0))
    return f"{float(np.float32(np.abs(steps).mean())):.4g} degrees apart"
