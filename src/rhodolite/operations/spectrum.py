"""How variance is spread over frequencies."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import LazyArray, Mapped, Reduction
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.spectra import can_tell_apart
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units
from rhodolite.model.units.udunits import product, square_units
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.frequencies.work import (
    Estimate,
    Kind,
    OfFrequencies,
    OfYear,
    SeriesResults,
)
from rhodolite.operations.parameters.shares import check_share
from rhodolite.operations.variables.along_time import (
    time_axis_of,
    variables_along_time,
    whole_period,
)

_SOURCES = {
    Estimate.PERIODOGRAM: (),
    Estimate.WELCH: (
        "Welch 1967, IEEE Transactions on Audio and Electroacoustics 15, 70-73",
    ),
    Estimate.MULTITAPER: ("Thomson 1982, Proceedings of the IEEE 70, 1055-1096",),
}
_RED_NOISE_SOURCE = (
    "Gilman and others 1963, Journal of the Atmospheric Sciences 20, 182-184"
)
_FEWEST = 16
_MOST_HARMONICS = 6
_NEARLY_ONE = 0.5
"""Of the one step a year beyond two for each harmonic; months and seasons differ in length."""
_DAYS_OF_YEAR = {"360_day": 360.0, "noleap": 365.0, "365_day": 365.0, "all_leap": 366.0}
_USUAL_YEAR = 365.2425
_SECONDS_OF_DAY = 86400.0
_STEP_SECONDS = {"day": _SECONDS_OF_DAY, "hour": 3600.0, "minute": 60.0, "second": 1.0}


@dataclass(frozen=True)
class Spectrum(Operation):
    """Spectra of series or of every cell, with the red noise behind them, or harmonics of the year.

    The spectral density is one-sided: its sum times the distance of frequencies, which are per
    year, is the variance. Behind it stands the spectrum of noise with the same variance and lag-1
    autocorrelation, and the limit that so much of it stays below at each frequency
    (`--confidence`); of many frequencies some lie above by chance. The mean is taken away; take the
    trend and the cycle out first where they are not meant. `--harmonics 2` gives the amplitude of
    the first harmonics of the year, the day on which they are largest, and the share of the
    variance that they explain, instead.

    Examples
    --------
    >>> Spectrum(method="multitaper", tapers=5)  # doctest: +SKIP
    """

    method: Estimate = parameter("how it is estimated", default=Estimate.PERIODOGRAM)
    segment: int | None = parameter(
        "steps of a segment, for welch (default: a quarter of them)", example="120"
    )
    tapers: int = parameter("how many tapers, for multitaper", default=5)
    confidence: float = parameter(
        "share of noise that stays below the limit (0 to 1)", default=0.95
    )
    harmonics: int = parameter(
        "harmonics of the year, instead of a spectrum (0 for none)", default=0
    )

    def check(self) -> None:
        check_share("--confidence", self.confidence)
        if self.segment is not None and self.method is not Estimate.WELCH:
            raise UsageError("--segment goes with --method welch")
        if self.segment is not None and self.segment < _FEWEST:
            raise UsageError(
                f"--segment {self.segment}: write at least {_FEWEST} steps"
            )
        if self.tapers < 2:
            raise UsageError(f"--tapers {self.tapers}: write 2 or more")
        if not 0 <= self.harmonics <= _MOST_HARMONICS:
            raise UsageError(
                f"--harmonics {self.harmonics}: write a number from 1 to {_MOST_HARMONICS}"
            )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        return () if self.harmonics else (*_SOURCES[self.method], _RED_NOISE_SOURCE)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of spectra along frequency, or of harmonics, without the time axis.

        Raises
        ------
        DataError
            If there is no time axis, steps are irregular, or there are too few of them.
        """
        axis = dataset.need_time()
        if not self.harmonics:
            axis = dataset.need_years("which have no spectrum")
        along_time, others = variables_along_time(dataset)
        work = self._work(dataset, axis)
        results = [
            result for v in along_time for result in self._results(dataset, v, work)
        ]
        coordinate = dataset.need(Role.TIME)
        time = whole_period(coordinate, axis)
        unchanged = [v for v in others if v.name not in {t.name for t in time}]
        return dataset.with_variables(
            [*unchanged, *time, work.coordinate(), *results],
            unlimited=dataset.unlimited - {str(coordinate.dimension)},
        )

    def _work(self, dataset: Dataset, axis: TimeAxis) -> SeriesResults:
        """Return what is made of each series."""
        if self.harmonics:
            _check_harmonics(dataset, axis, self.harmonics)
            days = _DAYS_OF_YEAR.get(axis.calendar, _USUAL_YEAR)
            return OfYear.of(axis, self.harmonics, days)
        rate, count = _steps_a_year(dataset, axis), len(axis)
        segment = self.segment or max(count // 4, _FEWEST)
        needed = segment if self.method is Estimate.WELCH else _FEWEST
        if count < needed:
            raise DataError(
                f"{dataset.label} has {count:,} steps, and a spectrum needs at least {needed:,}"
            )
        return OfFrequencies(
            axis.order, rate, self.method, segment, self.tapers, self.confidence
        )

    def _results(
        self, dataset: Dataset, variable: Variable, work: SeriesResults
    ) -> list[Variable]:
        along = time_axis_of(dataset, variable)
        cells = (*variable.shape[:along], *variable.shape[along + 1 :])
        dims = (*variable.dimensions[:along], *variable.dimensions[along + 1 :])
        own = work.along(along, variable.name)
        reduction = Reduction(variable.floats(), series=own)
        shared = placing_of(variable)
        results = []
        for ending, (words, kind) in own.titles.items():
            data: LazyArray = reduction.output(ending, (own.numbers.size, *cells))
            factor, about = _units_of(variable, kind)
            if factor != 1.0:
                data = Mapped(data, Rescaling(factor, 0.0), "f8")
            about = {"long_name": f"{words} of {variable.quantity}", **about, **shared}
            name, storage = f"{variable.name}_{ending}", Storage(dtype="float64")
            results.append(Variable(name, (own.dimension, *dims), data, about, storage))
        return results


def _units_of(variable: Variable, kind: Kind) -> tuple[float, dict[str, Any]]:
    """Return what results are multiplied by, and the attributes that say their units."""
    if kind is Kind.PERCENT:
        return 100.0, {"units": "%"}
    if kind is Kind.DAY:
        return 1.0, {"units": "day"}
    factor, units = of_differences(variable.units)
    if not units:
        return 1.0, {}
    if kind is Kind.DENSITY:
        return factor**2, {"units": product(square_units(units), "year")}
    return factor, describe_units(units, difference=True)


def _check_harmonics(dataset: Dataset, axis: TimeAxis, count: int) -> None:
    """Refuse steps that do not tell harmonics of the year apart: too few in a year, or all of them
    in a small part of it.

    Raises
    ------
    DataError
        If that is so.
    """
    years = np.sort(axis.decimal_years)
    apart = np.diff(years)
    rate = 1 / float(np.median(apart)) if apart.size else 1.0
    asked = f"{count} harmonics of the year need"
    fewer = ", or ask for fewer with --harmonics"
    if count == 1:
        asked, fewer = "a harmonic of the year needs", ""
    if rate < 2 * count + _NEARLY_ONE:
        raise DataError(
            f"{dataset.label} has some {rate:.3g} steps a year, and {asked} {2 * count + 1} or "
            f"more; take more months, or data of shorter steps{fewer}"
        )
    if not can_tell_apart(years % 1.0, count):
        raise DataError(
            f"{dataset.label}: the steps lie in so small a part of the year that they do not tell "
            f"its mean and {count} of its harmonics apart; take more months{fewer}"
        )


def _steps_a_year(dataset: Dataset, axis: TimeAxis) -> float:
    """Return how many steps there are in a year.

    Raises
    ------
    DataError
        If steps are irregular or left out.
    """
    step, missing = axis.spacing, axis.step.missing
    if step.unit in ("irregular", "single") or missing:
        what = f"{missing:,} steps left out" if missing else str(step)
        raise DataError(
            f"{dataset.label} has {what}, and a spectrum needs times that are evenly apart"
        )
    if step.months:
        return 12 / step.months
    days = _DAYS_OF_YEAR.get(axis.calendar, _USUAL_YEAR)
    seconds = _STEP_SECONDS.get(step.unit, 1.0) * step.count
    return days * _SECONDS_OF_DAY / seconds
