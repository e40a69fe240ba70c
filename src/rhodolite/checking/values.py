"""What the values of variables cannot be."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.arrays import Engine, MinMax, Reduction
from rhodolite.checking.finding import Finding, warning
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.cf.plausible import plausible_range, tell_implausible
from rhodolite.model.dataset import Dataset
from rhodolite.operations.time_groups.since_start import (
    falls_of,
    may_be_since_start,
    resolution_of,
    restarts_of,
)


def find_implausible(dataset: Dataset, engine: Engine) -> Iterator[Finding]:
    """Values lie where their quantity can be: damage, wrong units and forgotten marks show here.

    Parameters
    ----------
    dataset : Dataset
    engine : Engine
        What reads the values.
    """
    yield from _find_restarts(dataset, engine)
    for variable in dataset.fields:
        if plausible_range(variable) is None or not variable.data.size:
            continue
        extremes = Reduction(variable.floats(), MinMax()).output("extremes", (2,))
        low, high = engine.compute(extremes, f"finding the range of {variable.name}")
        said = tell_implausible(variable, float(low), float(high))
        if said:
            yield warning(
                variable.name,
                said,
                "physics",
                advice="check its units, its marks for missing values and the file itself",
            )


def _find_restarts(dataset: Dataset, engine: Engine) -> Iterator[Finding]:
    """Amounts are those of their steps, and not counted since the start of a forecast."""
    try:
        axis = dataset.time
    except DataError:
        return
    time = dataset.coordinate(Role.TIME)
    for variable in dataset.fields if axis is not None and time is not None else ():
        if time is None or axis is None or time.dimension not in variable.dimensions:
            continue
        if not may_be_since_start(variable, axis):
            continue
        falls = falls_of(variable, variable.dimensions.index(time.dimension))
        restarts = restarts_of(engine.compute(falls), resolution_of(variable))
        if restarts is not None:
            yield warning(
                variable.name,
                f"never falls but begins again every {restarts[1]} steps: amounts since the start "
                "of a forecast",
                "CF 7.3",
                advice="convert --amounts since-start makes them those of single steps",
            )
