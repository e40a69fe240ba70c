"""Levels that are exceeded once in many years, from the largest value of each year."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, ClassVar

import numpy as np

from rhodolite.arrays import Array, Engine, InMemory, Reduction, SeriesKernel
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.kernels.extreme_values import (
    fit_extremes,
    l_moments,
    limits_of_levels,
    plot_correlation,
    quantile,
)
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import of_differences
from rhodolite.model.units.udunits import is_temperature, pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.return_periods import ReturnPeriods
from rhodolite.operations.variables.along_time import (
    time_axis_of,
    variables_along_time,
    whole_period,
)

PERIOD = "return_period"
_FEWEST = 10
_SHORTEST_YEAR = 0.98
"""Of a year, that steps are apart at least."""
_CELLS_AT_ONCE = 512
"""Whose samples stay in the caches of a core."""
_FARTHEST = 4
"""How many times the record a return period may be before it is said that it is far."""


class Tail(StrEnum):
    """Which end of the values is rare."""

    HIGH = "high"
    LOW = "low"


@dataclass(frozen=True)
class Extremes(Operation):
    """Levels that are exceeded once in so many years, from the largest value of each year.

    The input has one value a year, such as the largest: aggregate --to year --statistic max then
    extremes. To these a generalised extreme value distribution is fitted at each cell by L-moments;
    the level of a return period of T years is exceeded in a year with the probability 1/T. Limits
    are those of samples drawn from the fitted distribution, by random numbers that are the same in
    every run and at every cell; `--seed` takes others. With `--tail low` the smallest value of each
    year is expected, and levels are fallen below. Where the climate changes during the record, such
    levels are those of its middle at best: detrend first, or take a shorter period.

    Examples
    --------
    >>> Extremes(periods="10,50,100")  # doctest: +SKIP
    """

    periods: ReturnPeriods = parameter(
        "return periods in years",
        default=ReturnPeriods((10.0, 50.0, 100.0)),
        example="10,50,100",
    )
    tail: Tail = parameter("which end of the values is rare", default=Tail.HIGH)
    confidence: float = parameter(
        "share of the samples between the limits of a level (0 to 1)", default=0.95
    )
    samples: int = parameter(
        "number of samples for the limits; 0 for none", default=500
    )
    seed: int = parameter("start of the random numbers", default=0)
    min_values: int = parameter("minimum number of years per grid cell", default=20)

    prints_result: ClassVar[bool] = True
    """Whether the result of a single series is said in words."""

    def check(self) -> None:
        if not 0 < self.confidence < 1:
            raise UsageError(
                f"--confidence: '{self.confidence:g}' is not a share; write a number between 0 and "
                "1, such as 0.95"
            )
        if self.samples < 0 or 0 < self.samples < 100:
            raise UsageError(
                f"--samples {self.samples}: limits need at least 100 samples; 0 leaves them out"
            )
        if self.min_values < _FEWEST:
            raise UsageError(
                f"--min-values {self.min_values}: a distribution of three parameters needs at "
                f"least {_FEWEST} values"
            )

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of levels and parameters, without the time axis.

        Raises
        ------
        DataError
            If there is no time axis, there are several values a year, or too few of them.
        """
        axis = dataset.need_time()
        self._check_times(dataset, axis)
        along_time, others = variables_along_time(dataset)
        coordinate = dataset.need(Role.TIME)
        results: list[Variable] = []
        remarks = list(dataset.remarks)
        for variable in along_time:
            levels = self._of(dataset, variable, axis)
            results += levels
            if variable.data.ndim == 1 or variable.data.size == len(axis):
                remarks.append(_Sentence(self, variable, tuple(levels[:3])))
        time = whole_period(coordinate, axis)
        described = [self._period_axis()] if len(self.periods.years) > 1 else []
        return dataset.with_variables(
            [*others, *time, *described, *results],
            unlimited=dataset.unlimited - {str(coordinate.dimension)},
            remarks=tuple(remarks),
        )

    def _check_times(self, dataset: Dataset, axis: TimeAxis) -> None:
        if axis.climatological:
            raise DataError(f"{dataset.label} holds normals, and not values of years")
        apart = np.diff(np.sort(axis.decimal_years))
        word = "max" if self.tail is Tail.HIGH else "min"
        if apart.size and apart.min() < _SHORTEST_YEAR:
            raise DataError(
                f"{dataset.label} has several values a year; take one of each first: aggregate "
                f"--to year --statistic {word} then extremes"
            )
        if len(axis) < self.min_values:
            raise DataError(
                f"{dataset.label} has {len(axis)} values, one a year, and {self.min_values} are "
                f"needed; --min-values {max(len(axis), _FEWEST)} asks for fewer"
            )
        longest = max(self.periods.years)
        if longest > _FARTHEST * len(axis):
            warn(
                f"a return period of {longest:g} years is more than {_FARTHEST} times the "
                f"{len(axis)} years of the data, and its level is a guess"
            )

    def _of(
        self, dataset: Dataset, variable: Variable, axis: TimeAxis
    ) -> list[Variable]:
        """Return levels, their limits, and the parameters of the distribution."""
        along = time_axis_of(dataset, variable)
        work = _Fit(
            along,
            self.periods.below,
            len(axis),
            self.tail is Tail.LOW,
            self.min_values,
            self.samples,
            self.confidence,
            self.seed,
        )
        reduction = Reduction(variable.floats(), series=work)
        cells = tuple(n for at, n in enumerate(variable.shape) if at != along)
        dims = tuple(d for at, d in enumerate(variable.dimensions) if at != along)
        several = len(self.periods.years) > 1
        of_levels = (len(self.periods.years),) if several else ()
        results = []
        for ending, title, kind in self._titles(variable):
            is_level = kind == "level"
            dimensions = (PERIOD, *dims) if is_level and several else dims
            shape = (*of_levels, *cells) if is_level else cells
            data = reduction.output(ending, shape)
            about = {"long_name": title, **self._attributes(variable, kind)}
            storage = Storage(dtype=variable.floats().dtype.name)
            results.append(
                Variable(f"{variable.name}_{ending}", dimensions, data, about, storage)
            )
        return results

    def _titles(self, variable: Variable) -> list[tuple[str, str, str]]:
        """Return ending, title and kind of each result."""
        what = variable.quantity
        word = "exceeded" if self.tail is Tail.HIGH else "fallen below"
        each = "each return period"
        if len(self.periods.years) == 1:
            each = f"{self.periods} years"
        level = f"level of {what} that is {word} once in {each}"
        share = f"{100 * self.confidence:.3g} %"
        titles = [("return_level", level, "level")]
        if self.samples:
            titles += [
                (
                    f"return_level_{end}",
                    f"{end} limit ({share}) of the {level}",
                    "level",
                )
                for end in ("lower", "upper")
            ]
        return [
            *titles,
            ("location", f"location of the extreme values of {what}", "value"),
            ("scale", f"scale of the extreme values of {what}", "difference"),
            ("shape", f"shape of the extreme values of {what}", "number"),
            ("fit", f"correlation of {what} with the fitted quantiles", "number"),
        ]

    def _attributes(self, variable: Variable, kind: str) -> dict[str, Any]:
        references = ("grid_mapping", "coordinates")
        given = variable.attributes
        about = {key: value for key, value in given.items() if key in references}
        if kind == "number":
            about["units"] = UNITS_OF_ONE
            about["comment"] = _COMMENTS[kind]
            return about
        units = variable.units
        if kind == "difference":
            _, units = of_differences(units)
        if units:
            about["units"] = units
        if is_temperature(units or "1"):
            scale = "difference" if kind == "difference" else "on_scale"
            about["units_metadata"] = f"temperature: {scale}"
        about["comment"] = _COMMENTS["level"]
        return about

    def _period_axis(self) -> Variable:
        about = {"long_name": "return period", "units": "year"}
        return Variable(
            PERIOD, (PERIOD,), InMemory(np.array(self.periods.years)), about
        )


_COMMENTS = {
    "level": "generalised extreme value distribution by L-moments, Hosking and Wallis 1997; "
    "limits by parametric bootstrap",
    "number": "generalised extreme value distribution by L-moments, Hosking and Wallis 1997; the "
    "tail is heavy where the shape is above 0 and bounded where it is below",
}


@dataclass
class _Fit(SeriesKernel):
    axis: int
    below: Array
    steps: int
    low: bool
    min_values: int
    samples: int
    share: float
    seed: int

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        of_levels = (self.below.size,) if self.below.size > 1 else ()
        names = ["return_level"]
        if self.samples:
            names += ["return_level_lower", "return_level_upper"]
        levels = {name: (of_levels, np.dtype("f8")) for name in names}
        rest = dict.fromkeys(
            ("location", "scale", "shape", "fit"), ((), np.dtype("f8"))
        )
        return {**levels, **rest}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        cells = block.shape[1:]
        values = block.reshape(len(block), -1).astype(np.float64)
        # The smallest values are the largest of those with the other sign.
        sign = -1.0 if self.low else 1.0
        values *= sign
        count, *moments = l_moments(values)
        parameters = fit_extremes(*moments)
        enough = count >= self.min_values
        location, scale, k = (np.where(enough, part, np.nan) for part in parameters)
        levels = quantile(location, scale, k, self.below[:, None])
        results = {
            "return_level": sign * levels,
            "location": sign * location,
            "scale": scale,
            "shape": np.where(np.isnan(k), np.nan, -k + 0.0),
            "fit": plot_correlation(values, location, scale, k),
        }
        if self.samples:
            ends = self._limits((location, scale, k), count)
            ends = ends[::-1] if self.low else ends
            results["return_level_lower"] = sign * ends[0]
            results["return_level_upper"] = sign * ends[1]
        shapes = self.outputs()
        lacking = int((~enough & (count > 0)).sum())
        return {
            name: part.reshape(*shapes[name][0], *cells)
            for name, part in results.items()
        }, Counter(lacking=lacking, of=int((count > 0).sum()))

    def _limits(
        self, parameters: tuple[Array, ...], count: Array
    ) -> tuple[Array, Array]:
        low = np.full((self.below.size, count.size), np.nan)
        high = low.copy()
        known = np.isfinite(parameters[2])
        for size in np.unique(count[known]):
            # The same at every cell of as many values, however the cells are divided.
            random = np.random.default_rng([self.seed, int(size)])
            drawn = np.sort(random.random((self.samples, int(size))), axis=1)
            of_size = np.flatnonzero(known & (count == size))
            for first in range(0, of_size.size, _CELLS_AT_ONCE):
                cells = of_size[first : first + _CELLS_AT_ONCE]
                location, scale, k = (part[cells] for part in parameters)
                low[:, cells], high[:, cells] = limits_of_levels(
                    (location, scale, k), int(size), self.below, drawn, self.share
                )
        return low, high

    def report(self, counts: Counter[str]) -> None:
        if counts["lacking"]:
            warn(
                "{lacking} of {of} cells have fewer than "
                f"{self.min_values} values and are missing",
                lacking=counts["lacking"],
                of=counts["of"],
            )


@dataclass(frozen=True)
class _Sentence:
    """What there is to say about the levels of a single series."""

    step: Extremes
    variable: Variable
    levels: tuple[Variable, ...]

    def text(self, engine: Engine) -> str:
        """Return a line for each return period."""
        numbers = [v.values(engine).reshape(-1) for v in self.levels]
        units = pretty(self.variable.units)
        lines = []
        for at, years in enumerate(self.step.periods.years):
            line = f"{self.variable.name}: once in {years:g} years {numbers[0][at]:.4g}"
            if self.step.samples:
                share = f"{100 * self.step.confidence:.3g} %"
                low, high = numbers[1][at], numbers[2][at]
                line += f" ({share}: {low:.4g} to {high:.4g})"
            lines.append(f"{line} {units}".strip())
        return "\n".join(lines)
