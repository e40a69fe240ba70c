"""Models brought to observations."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Concatenated, FirstAxisMoved, LazyArray, Reduction
from rhodolite.errors import DataError, UsageError
from rhodolite.model.axes import Role
from rhodolite.model.cf.departures import REFERENCE_PERIOD
from rhodolite.model.cf.precipitation import tell_precipitation
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_text import Period
from rhodolite.model.units.udunits import has_offset_zero
from rhodolite.model.variable import Variable
from rhodolite.operations.adjustment.work import (
    Adjustment,
    Fit,
    Method,
    Phase,
    Rule,
)
from rhodolite.operations.baseline.base_period import BASE_COVERAGE, BasePeriod
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.pairing.cells import counterpart, in_line
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.shares import check_coverage, check_pool
from rhodolite.operations.parameters.threshold import Threshold
from rhodolite.operations.variables.along_time import (
    put_in_place,
    time_axis_of,
    variables_along_time,
)

_TRACE = "0.05mm"
"""Of precipitation in a day, below which there is none (Cannon and others 2015)."""
_CANNON = "Cannon, Sobie and Murdock 2015, Journal of Climate 28, 6938-6959"
_SOURCES = {
    Method.QUANTILES: (
        "Panofsky and Brier 1968, Some Applications of Statistics to Meteorology",
        "Deque 2007, Global and Planetary Change 57, 16-26",
    ),
    Method.CHANGES: (_CANNON,),
    Method.DETRENDED: (_CANNON,),
}
_WORDS = {
    Method.MEAN: "mean",
    Method.SPREAD: "mean and standard deviation",
    Method.QUANTILES: "quantile mapping, Deque 2007",
    Method.CHANGES: "quantile delta mapping, Cannon and others 2015",
    Method.DETRENDED: "detrended quantile mapping, Cannon and others 2015",
}


@dataclass(frozen=True)
class Adjust(Operation):
    """A model brought to observations: by its mean, its spread, or quantile by quantile.

    What a model does wrong is learned in the years that it shares with the observations (`--base`),
    month by month, and taken out of all its times. A projection names the run of the past that goes
    with it: adjust future.nc --to observed.nc --trained-on past.nc. Quantities that cannot be
    negative are adjusted by ratios, all others by differences, unless `--by` says which.
    `quantile-changes` and `detrended-quantiles` keep the change that the model has between the
    training and now, at each quantile or of the mean; `quantiles` does not. Whether it helps is
    seen where it was not trained: leave years out of `--base`, and compare them before and after.

    Examples
    --------
    >>> Adjust(to="observed.nc", method="quantile-changes", base="1981..2010")  # doctest: +SKIP
    """

    to: OtherDataset | None = parameter("the observations", example="FILE")
    trained_on: OtherDataset | None = parameter(
        "the run of the model for the years of training (default: the data themselves)",
        example="FILE",
    )
    method: Method = parameter("how values are adjusted", default=Method.CHANGES)
    by: str | None = parameter(
        "differences or ratios (default: by the quantity)", example="ratios"
    )
    base: Period | None = parameter(
        "years of training (default: those that both have)", example="1981..2010"
    )
    cycle: Cycle = parameter(
        "what is adjusted by itself: month, season, day or none",
        default=Cycle.MONTH,
        example="CYCLE",
    )
    pool: int = parameter(
        "how many neighbouring phases count for each, such as 31 days (an odd number)",
        default=1,
    )
    fit: Fit = parameter("distribution of --method quantiles", default=Fit.EMPIRICAL)
    seed: int = parameter(
        "start of the random numbers for days without rain", default=0
    )
    min_coverage: float = parameter(
        "minimum fraction of valid values in the training (0 to 1)",
        default=BASE_COVERAGE,
    )

    def check(self) -> None:
        check_coverage(self.min_coverage)
        if self.to is None:
            raise UsageError("adjust: to what? Add --to FILE, the observations")
        if self.by not in (None, "differences", "ratios"):
            raise UsageError(f"--by {self.by}: write differences or ratios")
        check_pool(self.pool)
        if self.fit is not Fit.EMPIRICAL and self.method is not Method.QUANTILES:
            raise UsageError(f"--fit {self.fit} goes with --method quantiles")

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        return _SOURCES.get(self.method, ())

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of adjusted values, on the grid and times of the input.

        Raises
        ------
        DataError
            If grids, units or times do not go together, or too few years are shared.
        """
        assert self.to is not None
        truth = self.to.dataset
        trained = dataset if self.trained_on is None else self.trained_on.dataset
        bases = self._bases(trained, truth)
        phases = self._phases(dataset, *bases)
        along_time, _ = variables_along_time(dataset)
        results = {
            v.name: [self._adjusted(dataset, v, trained, truth, phases, bases[1])]
            for v in along_time
        }
        return dataset.with_variables(put_in_place(dataset, results))

    def _bases(self, trained: Dataset, truth: Dataset) -> tuple[BasePeriod, BasePeriod]:
        """Return the years of training, of the model and of the observations."""
        period = self.base
        if period is None:
            axes = (trained.need_time(), truth.need_time())
            shared = np.intersect1d(axes[0].years, axes[1].years)
            if not shared.size:
                raise DataError(
                    f"{trained.label} ({axes[0].span}) and {truth.label} ({axes[1].span}) have no "
                    "year in common; --trained-on names a run of the model for years of the "
                    "observations"
                )
            period = Period.parse(f"{shared[0]}..{shared[-1]}")
        first, second = (
            BasePeriod.of(d, self.cycle, period, self.min_coverage, pool=self.pool)
            for d in (trained, truth)
        )
        return first, second

    def _phases(
        self, dataset: Dataset, trained: BasePeriod, truth: BasePeriod
    ) -> list[Phase]:
        """Return which steps belong together.

        Raises
        ------
        DataError
            If a phase of the data is not in the training or the observations, or calendars differ
            in days.
        """
        axis = dataset.need_time()
        sizes = {self.cycle.size(a.calendar) for a in (axis, trained.axis, truth.axis)}
        if len(sizes) > 1:
            raise DataError(
                f"--cycle {self.cycle}: the calendars have {sorted(sizes)} days a year, which do "
                "not correspond; use --cycle month"
            )
        numbers = self.cycle.phases(axis)
        phases = []
        for number in np.unique(numbers):
            members = []
            for base, label in ((trained, "training"), (truth, "observations")):
                at = np.flatnonzero(base.present == number)
                if not at.size:
                    title = self.cycle.title(int(number), axis.calendar)
                    raise DataError(f"the {label} hold no values for {title}")
                steps, places = base.members
                members.append(steps[places == at[0]])
            apart = _phases_apart(numbers, int(number), max(sizes))
            own = np.flatnonzero(apart <= self.pool // 2)
            phases.append(Phase(np.flatnonzero(numbers == number), own, *members))
        return phases

    def _adjusted(
        self,
        dataset: Dataset,
        variable: Variable,
        trained: Dataset,
        truth: Dataset,
        phases: list[Phase],
        base: BasePeriod,
    ) -> Variable:
        along = time_axis_of(dataset, variable)
        others = [
            in_line(dataset, variable, other, counterpart(variable, other), Role.TIME)
            for other in (trained, truth)
        ]
        parts = [variable.floats(), *(other.floats() for other in others)]
        sizes = tuple(part.shape[along] for part in parts)
        rule = self._rule(variable)
        orders = [each.need_time().order for each in (dataset, trained, truth)]
        starts = np.cumsum([0, *sizes[:2]])
        places = [np.argsort(o) + at for o, at in zip(orders, starts, strict=True)]
        work = Adjustment(
            variable.name,
            along,
            (sizes[0], sizes[1], sizes[2]),
            phases,
            rule,
            self.seed,
            np.concatenate(places),
        )
        reduction = Reduction(Concatenated(parts, along), series=work)
        cells = (*variable.shape[:along], *variable.shape[along + 1 :])
        data: LazyArray = reduction.output("value", (sizes[0], *cells))
        how = "ratios" if rule.ratio else "differences"
        about: dict[str, Any] = {
            "comment": f"adjusted to {truth.label} by {how}: {_WORDS[self.method]}",
            REFERENCE_PERIOD: base.text,
        }
        return variable.derive(FirstAxisMoved(data, along)).edit(**about)

    def _refuse_ratios(self, variable: Variable, *, ratio: bool) -> None:
        """Refuse what means nothing on a scale whose zero is arbitrary."""
        start = f"{variable.name} is in {variable.units}, whose zero is arbitrary, so"
        if ratio:
            raise DataError(f"{start} ratios mean nothing; use --by differences")
        if self.fit is Fit.GAMMA:
            raise DataError(
                f"{start} no gamma distribution fits; use --fit {Fit.EMPIRICAL}, or convert "
                "--units to K"
            )

    def _rule(self, variable: Variable) -> Rule:
        rain = tell_precipitation(variable) is not None
        ratio = rain if self.by is None else self.by == "ratios"
        if variable.units and has_offset_zero(variable.units):
            self._refuse_ratios(variable, ratio=ratio)
        trace = 0.0
        jittered = self.method in (Method.QUANTILES, Method.CHANGES, Method.DETRENDED)
        if rain and jittered and self.fit is Fit.EMPIRICAL:
            trace = _trace_in_units_of(variable)
        return Rule(self.method, ratio, self.fit, trace, self.min_coverage)


def _phases_apart(numbers: Array, number: int, size: int) -> Array:
    """Return how many phases others are from one, round the year."""
    forward = (numbers - number) % size
    return np.asarray(np.minimum(forward, size - forward))


def _trace_in_units_of(variable: Variable) -> float:
    """Return the amount below which there is no rain; 0 where the units do not tell it."""
    for text in (f"{_TRACE}/day", _TRACE):
        try:
            return Threshold.parse(text).within(variable, text)
        except DataError:
            continue
    return 0.0
