"""What the values of variables cannot be."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.arrays import Engine, MinMax, Reduction
from rhodolite.checking.finding import Finding, warning
from rhodolite.model.cf.plausible import plausible_range, tell_implausible
from rhodolite.model.dataset import Dataset


def find_implausible(dataset: Dataset, engine: Engine) -> Iterator[Finding]:
    """Values lie where their quantity can be: damage, wrong units and forgotten marks show here.

    Parameters
    ----------
    dataset : Dataset
    engine : Engine
        What reads the values.
    """
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
