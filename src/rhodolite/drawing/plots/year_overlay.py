"""One curve for each year, from its first day to its last."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import cycle
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.base import Drawing
from rhodolite.drawing.options import CurveOptions, FigureOptions, PartOptions, Size
from rhodolite.drawing.parts.canvas import Canvas
from rhodolite.drawing.parts.colour_scale import BLUE, LINE_COLOURS
from rhodolite.drawing.parts.curves import Curve, curve_of, data_of_curves
from rhodolite.drawing.parts.map_decoration import halo
from rhodolite.drawing.parts.selection import only_one, variables_along
from rhodolite.drawing.parts.text import axis_label
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.calendar_days import months_of_days
from rhodolite.model.time.period_text import MONTH_TITLES, MonthOfYear, Period, Years
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS
from rhodolite.operations.accumulate import LeapDay
from rhodolite.operations.declaration import parameter

_MONTHS = np.array([31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
_STYLES = ("-", "--", ":", "-.")
_FEW = 6
"""Up to so many years have a colour each."""
_ENOUGH = 10
"""Years that a band of the middle 80 % needs."""


@dataclass(frozen=True)
class YearOverlay(FigureOptions, CurveOptions, PartOptions, Drawing, verb="years"):
    """One curve for each year on an axis from January to December, or from another month.

    The latest year, or a chosen one, is emphasised. Behind it are the range of the years of the
    base period, their middle 80 % where there are at least ten, and their median. Means over
    the area are weighted by the true area of the grid cells. A year that begins in another
    month is named after the year in which it ends.

    Examples
    --------
    >>> YearOverlay(variable="pr", start="oct")  # doctest: +SKIP
    """

    start: MonthOfYear | None = parameter("month in which years start", example="oct")
    emphasise: Years | None = parameter(
        "the years to emphasise (default: the latest)", example="2018"
    )
    base: Period | None = parameter(
        "years of the range drawn behind (default: all others)", example="1991..2020"
    )
    leap_day: LeapDay = parameter("whether 29 February is drawn", default=LeapDay.DROP)

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If it is not clear what to draw, the data have less than a step a season, or lack a year
            that is asked for.
        """
        variable = only_one(
            variables_along(dataset, (Role.TIME,), self.variable), dataset
        )
        curve = curve_of(dataset, variable, self.time, self.level, self.at, engine)
        order = curve.axis.order
        years, places, length = self._place_steps(curve.axis)
        years, places = years[order], places[order]
        if curve.axis.resolution.unit == "year":
            raise DataError(
                f"{dataset.label} has one value a year, which makes no curve within it; use draw "
                "series"
            )
        within = places >= 0
        lines = {
            int(year): (
                places[within & (years == year)],
                curve.values[within & (years == year)],
            )
            for year in np.unique(years)
        }
        lines = {
            year: line for year, line in lines.items() if np.isfinite(line[1]).any()
        }
        if not lines:
            raise DataError(f"{dataset.label}: every value is missing")
        return self._figure(curve, lines, length, axes)

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`."""
        variable = only_one(
            variables_along(dataset, (Role.TIME,), self.variable), dataset
        )
        return data_of_curves(dataset, (variable.name,), self.time, self.level, self.at)

    def _place_steps(self, axis: TimeAxis) -> tuple[Array, Array, int]:
        """Return the year of each step, its days since the start of that to its middle, and the
        days of a year."""
        lengths = np.full(12, 30) if axis.calendar == "360_day" else _MONTHS.copy()
        if axis.calendar != "360_day" and self.leap_day is LeapDay.DROP:
            lengths[1] = 28
        first = (self.start.number if self.start else 1) - 1
        turned = np.roll(lengths, -first)
        starts = np.roll(np.concatenate([[0], np.cumsum(turned)[:-1]]), first)
        days, clocks = np.divmod(axis.covered_middles, DAY_TICKS)
        number, day = months_of_days(days, axis.calendar)
        month = number % 12
        places = starts[month] + day - 1 + clocks / DAY_TICKS
        dropped = day > lengths[month]
        years = number // 12 + ((month >= first) if first else 0)
        return np.asarray(years), np.where(dropped, -1.0, places), int(lengths.sum())

    def _figure(
        self,
        curve: Curve,
        lines: dict[int, tuple[Array, Array]],
        length: int,
        given: Any,
    ) -> Any:

        chosen, base = self._years(list(lines))
        canvas = Canvas.make(self.size or Size(), given)
        _draw_range(canvas.axes, [lines[year] for year in base])
        others = {year: line for year, line in lines.items() if year not in chosen}
        _draw_others(canvas.axes, others)
        for year, style in zip(chosen, cycle(_STYLES), strict=False):
            _draw_chosen(canvas.axes, year, style, *lines[year])
        self._dress(canvas.axes, curve, length)
        words = f"{base[0]} to {base[-1]} behind" if base else ""
        line = " · ".join(filter(None, [curve.place, words]))
        canvas.put_title(self.title or curve.variable.quantity, line)
        canvas.style_curves()
        canvas.add_names(columns=8)
        return canvas.figure

    def _years(self, years: list[int]) -> tuple[list[int], list[int]]:
        """Return the years that are emphasised, and those whose range lies behind.

        Raises
        ------
        DataError
            If the data hold none of those that were asked for.
        """
        extent = f"the data hold {min(years)} to {max(years)}"
        chosen = [max(years)]
        if self.emphasise:
            chosen = [year for year in years if year in self.emphasise]
        if not chosen:
            raise DataError(f"--emphasise {self.emphasise}: {extent}")
        if self.base is None:
            return chosen, [year for year in years if year not in chosen]
        base = [year for year in years if _inside(year, self.base)]
        if not base:
            raise DataError(f"--base {self.base}: {extent}")
        return chosen, base

    def _dress(self, axes: Any, curve: Curve, length: int) -> None:
        first = (self.start.number if self.start else 1) - 1
        days = (
            np.full(12, 30)
            if length == 360
            else np.roll(np.where(np.arange(12) == 1, length - 337, _MONTHS), -first)
        )
        edges = np.concatenate([[0], np.cumsum(days)])
        axes.set_xlim(0, length)
        axes.set_xticks(edges, [""] * 13)
        axes.set_xticks(
            (edges[1:] + edges[:-1]) / 2,
            np.roll([title[:3] for title in MONTH_TITLES], -first),
            minor=True,
        )
        axes.tick_params(axis="x", which="minor", length=0)
        axes.tick_params(labelsize=11, which="both")
        if self.limits is not None:
            axes.set_ylim(self.limits.low, self.limits.high)
        axes.set_ylabel(
            axis_label(curve.variable.quantity, curve.variable.units), fontsize=12
        )


def _inside(year: int, period: Period) -> bool:
    return (period.first is None or year >= period.first.fields[0]) and (
        period.last is None or year <= period.last.fields[0]
    )


def _put_below_each_other(lines: list[tuple[Array, Array]]) -> tuple[Array, Array]:
    """Return the places in the year at which years have values, and the values of each year there.

    Steps of more than a day do not lie at the same places in all years: Februaries have another
    middle in leap years, and weeks begin on any day. What lies in the same stretch of the length of
    a step is put below each other.

    Parameters
    ----------
    lines : list of (ndarray of float64, ndarray of float64)
        Of each year the days since its beginning, and values.

    Returns
    -------
    tuple of ndarray of float64, shapes (places,) and (years, places)
    """
    steps = [np.diff(place) for place, _ in lines]
    width = float(np.median(np.concatenate(steps))) if any(map(len, steps)) else 1.0
    stretches = [
        np.floor(place / width) if width > 1 else np.round(place, 6)
        for place, _ in lines
    ]
    distinct = np.unique(np.concatenate(stretches))
    sums, counts = np.zeros((2, len(lines), distinct.size))
    middles = np.zeros(distinct.size)
    for row, ((place, values), stretch) in enumerate(
        zip(lines, stretches, strict=True)
    ):
        at, known = np.searchsorted(distinct, stretch), np.isfinite(values)
        np.add.at(sums[row], at[known], values[known])
        np.add.at(counts[row], at[known], 1)
        np.add.at(middles, at[known], place[known])
    table = np.divide(sums, counts, out=np.full(sums.shape, np.nan), where=counts > 0)
    total = counts.sum(axis=0)
    return middles[total > 0] / total[total > 0], table[:, total > 0]


def _draw_range(axes: Any, lines: list[tuple[Array, Array]]) -> None:
    """Draw the range of some years, and their middle where there are enough."""
    if len(lines) < 2:
        return
    places, table = _put_below_each_other(lines)
    enough = np.isfinite(table).sum(axis=0) >= max(2, len(lines) // 2)
    places, table = places[enough], table[:, enough]
    if not places.size:
        return
    axes.fill_between(
        places,
        np.nanmin(table, axis=0),
        np.nanmax(table, axis=0),
        color="#e6e6e6",
        linewidth=0,
        label="range",
        zorder=1,
    )
    if len(lines) >= _ENOUGH:
        low, high = np.nanquantile(table, [0.1, 0.9], axis=0)
        axes.fill_between(
            places,
            low,
            high,
            color="#cfcfcf",
            linewidth=0,
            label="middle 80 %",
            zorder=2,
        )
    axes.plot(
        places,
        np.nanmedian(table, axis=0),
        color="#333333",
        linewidth=1.4,
        linestyle=(0, (4, 2)),
        label="median",
        zorder=4,
    )


def _name(axes: Any, text: str, places: Array, values: Array) -> None:
    last = np.flatnonzero(np.isfinite(values))[-1]
    axes.annotate(
        text,
        (places[last], values[last]),
        xytext=(4, 8),
        textcoords="offset points",
        fontsize=11,
        color=BLUE,
        weight="bold",
        annotation_clip=False,
        zorder=6,
        path_effects=[halo()],  # readable over the curves
        ha="right"
        if places[last] > 0.93 * places.max() and last == len(values) - 1
        else "left",
    )


def _draw_others(axes: Any, lines: dict[int, tuple[Array, Array]]) -> None:
    """Draw years that are not emphasised: few by name, many as one entry of the legend."""
    few = len(lines) <= _FEW
    for number, (year, line) in enumerate(lines.items()):
        look: dict[str, Any] = {"color": "#8a8a8a", "linewidth": 0.6}
        if few:
            colour = LINE_COLOURS[1 + number]
            look = {"color": colour, "linewidth": 1.1, "label": str(year)}
        elif number == 0:
            look["label"] = "other years"
        axes.plot(*line, zorder=3, **look)


def _draw_chosen(axes: Any, year: int, style: str, days: Array, values: Array) -> None:
    name = str(year)
    look = {"color": BLUE, "linewidth": 2.6, "linestyle": style, "label": name}
    axes.plot(days, values, zorder=5, **look)
    _name(axes, name, days, values)
