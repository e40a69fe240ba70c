"""The range of values that a variable states, which is true only of the values that it was said of
(CF 2.5.1)."""

from __future__ import annotations

from collections.abc import Iterable

from rhodolite.model.dataset import Dataset

_RANGE = "actual_range"


def without_old_ranges(before: Iterable[Dataset], after: Dataset) -> Dataset:
    """Return a dataset whose variables state a range only where their values are those of before.

    Parameters
    ----------
    before : iterable of Dataset
        What the dataset was made of.
    after : Dataset
    """
    known = {id(v.data) for dataset in before for v in dataset.variables.values()}
    if not any(_RANGE in v.attributes for v in after.variables.values()):
        return after
    return after.with_variables(
        variable if id(variable.data) in known else variable.edit(_RANGE)
        for variable in after.variables.values()
    )
