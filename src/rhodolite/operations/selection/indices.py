"""From what people ask for to the indices along each axis."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.kernels.sphere import cell_with, eastward_from, shortest_turn
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take
from rhodolite.model.space.axis_cells import cell_edges, covers_globe
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.space.range_text import (
    LatitudeRange,
    LevelRange,
    Levels,
    LongitudeRange,
    Position,
    format_latitude,
    format_longitude,
)
from rhodolite.model.time.period_text import Months, Period, Season, Years
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import Variable
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
    steps = np.diff(np.unwrap(coordinate.values, period=360.0))
    if (
        coordinate.bounds is not None
        or not steps.size
        or not ((steps > 0).all() or (steps < 0).all())
    ):
        return part
    edges = cell_edges(coordinate)
    turned = np.unwrap(coordinate.values, period=360.0) - coordinate.values
    bounds = (np.stack([edges[:-1], edges[1:]], axis=1) - turned[:, None])[cells]
    left = part.need(role)
    inner = np.diff(np.unwrap(left.values, period=360.0))
    if (inner > 0).all() or (inner < 0).all():
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
    west, east = _ends(values, wanted)
    if wanted.west is not None and wanted.west == wanted.east:
        at = longitude_cell(coordinate, west)
        columns = np.array([] if at is None else [at], dtype=np.intp)
        reached = values[columns] + np.round((west - values[columns]) / 360.0) * 360.0
    else:
        width = 360.0 if east - west >= 360 else (east - west) % 360.0
        beyond = np.mod(values - west + slack, 360.0) - slack
        columns = np.flatnonzero(
            beyond <= width + slack if width < 360 else beyond < 360 - slack
        )
        columns = columns[np.argsort(beyond[columns], kind="stable")]
        # Some grids repeat their first column 360 degrees on; it is taken once.
        columns = columns[np.diff(beyond[columns], prepend=-np.inf) > slack]
        reached = west + beyond[columns]
    if not columns.size:
        ends = [format_longitude(edge) for edge in (values.min(), values.max())]
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
        south, north = latitude.values.min(), latitude.values.max()
        west, east = longitude.values.min(), longitude.values.max()
        raise DataError(
            f"--at {place}: lies outside the data, which cover "
            f"{format_latitude(south)}..{format_latitude(north)}, "
            f"{format_longitude(west)}..{format_longitude(east)}"
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
        chosen &= axis.within(period)
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


def level_indices(coordinate: Coordinate, wanted: Levels) -> Indices:
    """Return the levels asked for, in the order of the data.

    Parameters
    ----------
    coordinate : Coordinate
    wanted : Levels
        What was asked for.

    Raises
    ------
    DataError
        If a level is not there, a range holds none, or units do not fit.
    """
    values, units = coordinate.values, coordinate.variable.units or "1"
    chosen = np.zeros(values.size, dtype=bool)
    for part in wanted.ranges:
        ends = [
            _level_in(end, units, coordinate.name) for end in (part.first, part.last)
        ]
        if part.single and ends[0] is not None:
            close = np.abs(values - ends[0]) <= max(
                coordinate.slack, 1e-5 * abs(ends[0]), 1e-9
            )
        else:
            low, high = _sorted_ends(ends)
            close = (values >= low - coordinate.slack) & (
                values <= high + coordinate.slack
            )
        if not close.any():
            raise DataError(_no_level(part, ends, coordinate, units))
        chosen |= close
    return np.flatnonzero(chosen)


def value_indices(dataset: Dataset, dimension: str, wanted: list[str]) -> Indices:
    """Return where values stand along any axis, in the order of the data.

    Parameters
    ----------
    dataset : Dataset
    dimension : str
    wanted : list of str
        Numbers, ranges of numbers such as `10..50`, or names where the axis has names.

    Raises
    ------
    DataError
        If a value is not there.
    """
    along = _labels_of(dataset, dimension)
    numeric = along is not None and along.data.dtype.kind in "fiu"
    values = np.arange(1, dataset.lengths[dimension] + 1, dtype=np.float64)
    if along is not None:
        values = along.values()
    chosen = np.zeros(len(values), dtype=bool)
    for text in wanted:
        if along is None or numeric:
            close = _near(values.astype(np.float64), text)
        else:
            close = np.array([str(value) == text for value in values])
        if not close.any():
            listed = ", ".join(_written(value) for value in values[:40])
            raise DataError(
                f"--choose {dimension}={text}: there is no such value; there are {listed}"
            )
        chosen |= close
    return np.flatnonzero(chosen)


def _labels_of(dataset: Dataset, dimension: str) -> Variable | None:
    """Return the variable that numbers or names the values of an axis; None where there is none."""
    along = dataset.variables.get(dimension)
    if along is not None and along.dimensions == (dimension,):
        return along
    names = (v for v in dataset.variables.values() if v.dimensions == (dimension,))
    return next((v for v in names if v.data.dtype.kind not in "fiu"), None)


def _near(values: Array, text: str) -> NDArray[np.bool_]:
    """Return which values a number means, or a range of them."""
    first, dots, last = text.partition("..")
    try:
        low = float(first or -np.inf)
        high = float(last or np.inf) if dots else low
    except ValueError:
        return np.zeros(len(values), dtype=bool)
    slack = 1e-5 * np.maximum(np.abs(values), 1e-9)
    return np.asarray((values >= low - slack) & (values <= high + slack))


def _written(value: object) -> str:
    return f"{value:g}" if isinstance(value, (float, np.number)) else str(value)


def _no_level(
    part: LevelRange, ends: list[float | None], coordinate: Coordinate, units: str
) -> str:
    values = coordinate.values
    listed = ", ".join(f"{value:g}" for value in values[:40]) + (
        ", ..." if values.size > 40 else ""
    )
    hint = ""
    if part.single and ends[0] is not None:
        hint = f" The nearest is {values[np.argmin(np.abs(values - ends[0]))]:g}."
    label = f" {units}" if units != "1" else ""
    return f"--level {part}: no such level.{hint} There are: {listed}{label}."


def _level_in(end: tuple[float, str] | None, units: str, name: str) -> float | None:
    if end is None:
        return None
    value, given = end
    if not given or given == units:
        return value
    if not convertible(given, units):
        raise DataError(
            f"--level {value:g}{given}: the levels ({name}) are in {units}, which {given} cannot "
            "be converted to"
        )
    return float(convert(value, given, units))


def _sorted_ends(ends: list[float | None]) -> tuple[float, float]:
    first, last = ends
    if first is not None and last is not None:
        return min(first, last), max(first, last)
    return (-np.inf if first is None else first), (np.inf if last is None else last)


def _ends(values: Array, wanted: LongitudeRange) -> tuple[float, float]:
    """Return both ends of a range in degrees east, an open one replaced by the end of the data."""
    west = float(values.min()) if wanted.west is None else wanted.west
    east = float(values.max()) if wanted.east is None else wanted.east
    if wanted.east is None and east < west:
        east += 360.0
    return west, east


def _spacing_words(values: Array) -> str:
    if values.size < 2:
        return "a single one"
    return f"{float(np.float32(np.abs(np.diff(values)).mean())):.4g} degrees apart"
