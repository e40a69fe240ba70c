"""Several statistics of the same steps at once, each as a variable of its own."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Protocol

from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable
from rhodolite.operations.parameters.statistic import Measure, Measures
from rhodolite.operations.variables.along_time import variables_along_time


class HasStatistics(Protocol):
    """A step of one or more statistics."""

    @property
    def statistic(self) -> Measures: ...

    def apply(self, dataset: Dataset) -> Dataset: ...


def each_statistic(step: HasStatistics, dataset: Dataset) -> Dataset:
    """Return what a step of several statistics makes of a dataset, `tas` becoming `tas_mean`,
    `tas_p90` and so on. They share the passes over the data.

    Parameters
    ----------
    step : Operation
    dataset : Dataset

    Raises
    ------
    DataError
        If the dataset has a variable of such a name.
    """
    measures = step.statistic.measures
    parts = [
        replace(step, statistic=Measures((measure,))).apply(dataset)  # type: ignore[type-var]
        for measure in measures
    ]
    calculated = {variable.name for variable in variables_along_time(dataset)[0]}
    variables: list[Variable] = []
    for name, variable in parts[0].variables.items():
        if name in calculated:
            for measure, part in zip(measures, parts, strict=True):
                variables += _of_statistic(part, name, measure)
        elif name.removesuffix("_coverage") not in calculated:
            variables.append(variable)
    names = [variable.name for variable in variables]
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise DataError(
            f"--statistic: two variables would be called {twice}; rename one of them"
        )
    return parts[0].with_variables(variables)


def _of_statistic(part: Dataset, name: str, measure: Measure) -> list[Variable]:
    """Return a statistic, and the share of each period that it is of, under names of their own."""
    ending = re.sub(r"\W+", "_", str(measure)).strip("_")
    named, share = f"{name}_{ending}", part.variables.get(f"{name}_coverage")
    result = part.variables[name].replace(name=named)
    if share is None or "ancillary_variables" not in result.attributes:
        return [result]
    about = str(result.attributes["ancillary_variables"])
    listed = about.replace(share.name, f"{named}_coverage")
    return [
        result.edit(ancillary_variables=listed),
        share.replace(name=f"{named}_coverage"),
    ]
