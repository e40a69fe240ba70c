"""Titles, places and dates as they stand in figures."""

from __future__ import annotations

import datetime
import textwrap
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import cell_edges, covers_globe
from rhodolite.model.space.extent import Extent
from rhodolite.model.space.range_text import format_latitude, format_longitude
from rhodolite.model.time.date_values import units_of_dates, write_dates
from rhodolite.model.time.dates import format_date
from rhodolite.model.time.period_text import MONTH_TITLES, Season
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_labels import WHOLE_YEAR, name_phase
from rhodolite.model.time.time_units import month_start
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable
from rhodolite.operations.selection.curvilinear import Positions
from rhodolite.plain_text import cut_text, make_visible, write_rounded

LONGEST_TEXT = 300
"""Letters of a title or a name; what is longer cannot be read in a figure."""


def capitalise(text: str) -> str:
    """Return a text with its first letter in upper case, and nothing in it that is not seen."""
    shown = cut_text(make_visible(text[: 2 * LONGEST_TEXT]), LONGEST_TEXT)
    return shown[:1].upper() + shown[1:]


def degrees_north(value: float) -> str:
    """Write a latitude for an axis, such as 60°N."""
    if value == 0:
        return "0°"
    return f"{abs(value):g}°{'N' if value > 0 else 'S'}"


def degrees_east(value: float) -> str:
    """Write a longitude for an axis, such as 20°W, in either convention."""
    turned = shortest_turn(value)
    if turned in (0, -180):  # which are neither east nor west
        return f"{abs(turned):g}°"
    return f"{abs(turned):g}°{'E' if turned > 0 else 'W'}"


def with_units(quantity: str, units: str | None) -> str:
    """Write a quantity with its units for an axis or legend.

    Parameters
    ----------
    quantity : str
        Name of the quantity in words.
    units : str, optional
        UDUNITS units.
    """
    return f"{quantity} ({pretty(units)})" if pretty(units) else quantity


def axis_label(quantity: str, units: str | None, letters: int = 58) -> str:
    """Write a quantity with its units beside an axis or legend, in two lines at most where it is
    long.

    Parameters
    ----------
    quantity : str
        Name of the quantity in words.
    units : str, optional
        UDUNITS units.
    letters : int
        Length at which the text is broken.
    """
    shown = pretty(units)
    if shown:
        # Units stay in one piece.
        shown = f"({shown})".replace(" ", "\u00a0")
    lines = textwrap.wrap(f"{capitalise(quantity)} {shown}".strip(), letters)
    if len(lines) > 2:
        rest = textwrap.shorten(
            " ".join(lines[1:]).removesuffix(shown),
            letters - len(shown) - 3,
            placeholder=" …",
        )
        lines = [lines[0], f"{rest} {shown}".strip()]
    return "\n".join(lines)


def value_text(value: float, variable: Variable, spread: float | None = None) -> str:
    """Write a value with its units, to three significant digits, or as many as tell it from others.

    Parameters
    ----------
    value : float
    variable : Variable
    spread : float, optional
        How far the values of the field lie apart.
    """
    if (date := date_text(value, variable)) is not None:
        return date
    text = write_digits(value, digits_for(value, spread))
    return f"{text} {pretty(variable.units)}".strip()


def date_text(value: float, variable: Variable) -> str | None:
    """Return the date that a value is; None where values are no dates."""
    units = units_of_dates(variable)
    return None if units is None else str(write_dates(np.array([value]), units)[0])


def shown_units(variable: Variable) -> str | None:
    """Return the units that stand beside the numbers of a picture; none where these are dates."""
    return variable.units if units_of_dates(variable) is None else None


def write_digits(value: float, digits: int) -> str:
    """Write a number with so many digits; without a power of ten where they are more than six."""
    text = write_rounded(value, digits)
    if digits > 6 and "e" in text:
        decimals = max(0, digits - 1 - int(np.floor(np.log10(abs(value)))))
        text = f"{value:.{decimals}f}"
    return text.replace("-", "−")


def digits_for(value: float, spread: float | None, fewest: int = 3) -> int:
    """Return how many digits tell a value from others that lie a part of the spread away.

    Parameters
    ----------
    value : float
        The largest of them.
    spread : float, optional
    fewest : int
    """
    if not spread or not np.isfinite(spread) or not value:
        return fewest
    needed = int(np.ceil(np.log10(abs(value) / spread))) + 2
    return min(max(needed, fewest), 15)


def _named_period(axis: TimeAxis) -> str | None:
    """Return the name of a single step that stands for whole months: a month, a season, a year, or
    several."""
    if axis.bounds is None:
        return None
    first, after = axis.to_dates(axis.bounds[0])
    whole = all((d.day, d.hour, d.minute) == (1, 0, 0) for d in (first, after))
    months = (after.year - first.year) * 12 + after.month - first.month
    if not whole or months < 1:
        days = (after - first).days
        return (
            f"{_day(first)} to {_day(after - datetime.timedelta(days=1))}"
            if days > 1
            else None
        )
    last = month_start(after.year, after.month - 1, axis.calendar)
    if months == 1:
        return f"{MONTH_TITLES[first.month - 1]} {first.year}"
    if months < 12:
        return f"{Season(first.month, months)} {last.year}"
    if first.month == 1 and months % 12 == 0:
        return str(first.year) if months == 12 else f"{first.year} to {last.year}"
    return " to ".join(f"{MONTH_TITLES[d.month - 1]} {d.year}" for d in (first, last))


def period_text(axis: TimeAxis | None) -> str:
    """Say which time a field is of: one date, or the mean of a stretch."""
    if axis is None or len(axis) == 0:
        return ""
    if axis.climatological and axis.bounds is not None:
        return _phases_text(axis, axis.bounds)
    if len(axis) == 1:
        return _named_period(axis) or _moment(axis.reference_dates[0])
    unit, counted = axis.resolution.unit, "steps"
    if unit in ("month", "year", "day", "hour") and axis.resolution.count == 1:
        counted = f"{unit}s"
    ends = axis.reference_dates[axis.order[[0, -1]]]
    first, last = (_in_unit(date, unit) for date in ends)
    return f"mean of {len(axis):,} {counted}, {first} to {last}"


def _phases_text(axis: TimeAxis, bounds: Array) -> str:
    """Say which phases of a cycle a field is of, and of which years."""
    first, last = axis.to_dates(np.array([bounds.min(), bounds.max()]))
    begin, end = (name_phase(*axis.to_dates(np.sort(bounds[at]))) for at in (0, -1))
    phase = f"mean of {begin} to {end}"
    if len(axis) == 1:
        phase = "the whole year" if begin == WHOLE_YEAR else begin
    return f"{phase}, {first.year} to {(last - datetime.timedelta(days=1)).year}"


def _moment(date: Any) -> str:
    """Write a date, of noon the day alone."""
    at_noon = (date.hour, date.minute) == (12, 0)
    return _day(date) if at_noon else format_date(date)


def _in_unit(date: Any, unit: str) -> str:
    """Write an end of a stretch as finely as its steps are."""
    if unit in ("month", "year"):
        return f"{MONTH_TITLES[date.month - 1]} {date.year}"
    return _day(date) if unit == "day" else format_date(date)


def region_text(dataset: Dataset) -> str:
    """Say which region a dataset covers, such as 54N to 72N, 0E to 40E; nothing where that is not
    known.
    """
    if dataset.axes.curvilinear:
        covered = Positions.of(dataset)
        return _extent_text(covered.latitudes, covered.longitudes)
    latitude, longitude = (
        dataset.coordinate(Role.LATITUDE),
        dataset.coordinate(Role.LONGITUDE),
    )
    if latitude is None or longitude is None:
        return ""
    if covers_globe(longitude.values) and np.ptp(cell_edges(latitude)) > 179.9:
        return "the globe"
    return _extent_text(latitude.values, longitude.values)


def _extent_text(latitudes: Array, longitudes: Array) -> str:
    extent = Extent.of(latitudes, longitudes)
    if latitudes.size == longitudes.size == 1:
        north, east = format_latitude(extent.north), format_longitude(extent.east)
        return f"cell at {north}, {east}"
    return extent.words(between=" to ")


def _day(date: Any) -> str:
    """Write the day alone, also of a step that is stamped with noon."""
    return f"{date.year:04d}-{date.month:02d}-{date.day:02d}"
