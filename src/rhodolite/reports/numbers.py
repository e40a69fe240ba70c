"""The numbers of a dataset in sentences: trends with their limits, highest and lowest values with
their time and place, means over the area."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from enum import Enum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine, InMemory
from rhodolite.drawing.parts.curves import cycle_of
from rhodolite.errors import RhodoliteError, collecting
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.labels import labels_along
from rhodolite.model.space.cell_lists import cell_dimension
from rhodolite.model.time.date_values import units_of_dates, write_dates
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable
from rhodolite.operations.anomaly import Anomaly
from rhodolite.operations.axis_reduction.area_mean import horizontal_axes, mean_over
from rhodolite.operations.trend import Trend
from rhodolite.plain_text import write_rounded
from rhodolite.reports.places import Places, roles_of

_MOST_VALUES = 20_000_000
"""Of a variable, so that a report is no work of its own."""
_MOST_SERIES = 12
_FEWEST_YEARS = 10
_COMPANIONS = (
    "_trend_error",
    "_trend_lower",
    "_trend_upper",
    "_trend_pvalue",
    "_change",
)
_SIGNIFICANT = "_significant"
_CONFIDENCE = re.compile(r"confidence (0\.\d+)")
_AVERAGED = ((Role.LATITUDE, Role.LONGITUDE), (Role.LEVEL,), (Role.TIME,))
_ROUNDING = 1e-9
"""Of the largest value, below which a mean is nothing but rounding."""


class Trends(Enum):
    """Which trends of series are told."""

    NONE = "none"
    OF_LONG_ONES = "those of series of ten years and more"
    OF_VALUES = "those of the values"
    WITHOUT_CYCLE = "those of the values without their mean cycle"


def sentences_of(
    dataset: Dataset, engine: Engine, trends: Trends = Trends.NONE
) -> tuple[str, ...]:
    """Return sentences with the numbers that one would ask for first."""
    sentences: list[str] = []
    for variable in dataset.fields:
        if (
            not variable.numeric
            or not variable.data.size
            or variable.name.endswith(_COMPANIONS)
        ):
            continue
        if variable.data.size > _MOST_VALUES or variable.name.endswith(_SIGNIFICANT):
            continue
        sentences += _about(dataset, variable, engine, trends)
    return tuple(sentences)


def _about(
    dataset: Dataset, variable: Variable, engine: Engine, trends: Trends
) -> Iterator[str]:
    values = np.asarray(engine.compute(variable.floats()), dtype=np.float64)
    if not np.isfinite(values).any():
        yield f"{_capital(variable.quantity)}: no value is there."
        return
    places = Places.of(dataset, variable)
    if variable.name.endswith("_trend"):
        yield _trend(dataset, variable, values, places, engine)
        return
    if values.ndim == 0:
        yield f"{_capital(variable.quantity)}: {_number(values, variable)}."
        return
    means, words = _means(dataset, variable, engine)
    others = _other_axes(dataset, variable)
    if len(others) == 1 and values.shape[others[0]] <= _MOST_SERIES:
        (axis,) = others
        rest = places.without(axis)
        of_means = means.dimensions.index(variable.dimensions[axis])
        averages = np.moveaxis(means.values(), of_means, 0)
        for at, name in enumerate(labels_along(dataset, variable.dimensions[axis])):
            part = np.take(values, at, axis)
            mean = _average(averages[at])
            yield _extremes(variable, part, rest, (mean, words), f" ({name})")
    else:
        mean = _average(means.values())
        yield _extremes(variable, values, places, (mean, words))
    if trends is not Trends.NONE:
        yield from _change(dataset, variable, engine, trends)


def _other_axes(dataset: Dataset, variable: Variable) -> list[int]:
    """Return the axes of regions, sites, members and the like that are longer than one."""
    roles = roles_of(dataset, variable)
    cells = cell_dimension(dataset)
    return [
        at
        for at, name in enumerate(variable.dimensions)
        if roles[at] is None and name != cells and variable.shape[at] > 1
    ]


def _extremes(
    variable: Variable,
    values: Array,
    places: Places,
    mean: tuple[float, str],
    what: str = "",
) -> str:
    """Return mean, lowest and highest value, with where and when these are."""
    start = f"{_capital(variable.quantity)}{what}:"
    if not np.isfinite(values).any():
        return f"{start} no value is there."
    if values.size == 1:
        return f"{start} {_number(values.reshape(-1)[0], variable)}."
    value, words = mean
    if abs(value) < _ROUNDING * np.nanmax(np.abs(values)):
        value = 0.0
    are_dates = units_of_dates(variable) is not None
    said = ""
    if np.isfinite(value) and not are_dates:  # dates of several years have no mean
        said = f" {_number(value, variable)} {words};"
    first, last = ("earliest", "latest") if are_dates else ("lowest", "highest")
    ends = []
    for word, find in ((first, np.nanargmin), (last, np.nanargmax)):
        place = np.unravel_index(int(find(values)), values.shape)
        where = places.at(tuple(int(at) for at in place))
        number = _number(values[place], variable)
        ends.append(f"the {word} is {number}" + (f" ({where})" if where else ""))
    return f"{start}{said} {', '.join(ends)}."


def _trend(
    dataset: Dataset,
    variable: Variable,
    values: Array,
    places: Places,
    engine: Engine,
) -> str:
    """Return a trend with its limits; of a map, its mean and range, and where it is significant."""
    base = variable.name.removesuffix("_trend")
    if values.size == 1:
        text = (
            f"{_capital(variable.quantity)}: {_number(values.reshape(-1)[0], variable)}"
        )
        limits = [
            _single(dataset, f"{base}_trend_{end}", engine)
            for end in ("lower", "upper")
        ]
        if None not in limits:
            low, high = (_number(end, variable, units=False) for end in limits)
            text += f" (between {low} and {high}{_confidence(dataset, base)})"
        chance = _single(dataset, f"{base}_trend_pvalue", engine)
        if chance is None:
            return f"{text}."
        return f"{text}; p {'< 0.001' if chance < 1e-3 else f'= {chance:.2g}'}."
    means, words = _means(dataset, variable, engine)
    mean = _average(means.values())
    extremes = _extremes(variable, values, places, (mean, words))
    flags = dataset.variables.get(f"{base}_trend{_SIGNIFICANT}")
    if flags is None or flags.data.shape != values.shape:
        return extremes
    significant = np.asarray(engine.compute(flags.data)) == 1
    share = 100 * significant[np.isfinite(values)].mean()
    return f"{extremes} It is significant in {share:.0f} % of the cells."


def _confidence(dataset: Dataset, base: str) -> str:
    said = _CONFIDENCE.search(dataset[f"{base}_trend_lower"].quantity)
    return f" with {100 * float(said.group(1)):g} % confidence" if said else ""


def _single(dataset: Dataset, name: str, engine: Engine) -> float | None:
    variable = dataset.variables.get(name)
    if variable is None or variable.data.size != 1:
        return None
    value = float(np.asarray(engine.compute(variable.floats())).reshape(-1)[0])
    return value if np.isfinite(value) else None


def _change(
    dataset: Dataset, variable: Variable, engine: Engine, trends: Trends
) -> Iterator[str]:
    """Yield the trend of a single series."""
    axis = dataset.time
    dimensions = [d for d in variable.dimensions if dataset.lengths[d] > 1]
    if axis is None or len(dimensions) != 1:
        return
    if trends is Trends.OF_LONG_ONES and np.ptp(axis.decimal_years) < _FEWEST_YEARS:
        return
    try:
        # What the trend warns of has been said where it was drawn.
        with collecting():
            part = dataset.restrict([variable.name])
            if trends is Trends.WITHOUT_CYCLE:
                part = Anomaly(cycle=cycle_of(axis))(part)
            change = Trend()(part)
            name = f"{variable.name}_trend"
            values = np.asarray(engine.compute(change[name].floats()), dtype=np.float64)
            yield _trend(change, change[name], values, Places(()), engine)
    except RhodoliteError:
        return


def _means(
    dataset: Dataset, variable: Variable, engine: Engine
) -> tuple[Variable, str]:
    """Return the means of cells by their area, of levels by their thickness and of times by their
    length, and what they are of; missing where the data cannot be averaged."""
    over = horizontal_axes(dataset, variable)
    sizes = [variable.shape[axis] for axis in over]
    of_area = math.prod(sizes) > 1 and _covers_an_area(dataset, variable)
    mean = variable
    try:
        with collecting():
            for roles in _AVERAGED:
                mean = mean_over(dataset, mean, roles)
            values = engine.compute(mean.floats())
    except RhodoliteError:
        missing = np.full(variable.shape, np.nan)
        return variable.replace(data=InMemory(missing), missing=None), ""
    words = "on average over the area" if of_area else "on average"
    return mean.replace(data=InMemory(values), missing=None), words


def _average(means: Array) -> float:
    """Return the mean of those that are there."""
    known = means[np.isfinite(means)]
    return float(known.mean()) if known.size else float("nan")


def _covers_an_area(dataset: Dataset, variable: Variable) -> bool:
    """Return whether latitude and longitude both run along a variable."""
    if cell_dimension(dataset) in variable.dimensions:
        return True
    return {Role.LATITUDE, Role.LONGITUDE} <= set(roles_of(dataset, variable))


def _number(value: Any, variable: Variable, *, units: bool = True) -> str:
    dates = units_of_dates(variable)
    if dates is not None:
        return str(write_dates(np.array([value]), dates)[0])
    text = write_rounded(float(value), 4).replace("-", "\N{MINUS SIGN}")
    unit = pretty(variable.units) if units else ""
    return f"{text} {unit}".strip()


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
