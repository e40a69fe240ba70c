"""From tables and text grids, which explain nothing, to a dataset that explains itself.

What the files do not say stands in a description, a small TOML file:

[dataset]                            # attributes of the dataset
title = "Rain over the catchment"
institution = "Skarn Hydro"

[input]
names = "rain_{year}{month}.asc"     # for text grids: where the date stands in a file's name
calendar = "standard"                # optional
missing = -99.0                      # optional: one more number that means a missing value

[columns]                            # optional, for tables: which column is which coordinate
time = "Datum"

[dimensions]                         # optional: lengths that are to be met
time = 24

[variables.rain]                     # one table for each variable, by the name that it will have
from = "precip"                      # optional: the column, or the {variable} in the names of files
units = "mm"
standard_name = "precipitation_amount"
long_name = "monthly rain"
cell_methods = "time: sum"
type = "float32"                     # optional
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, Mapped
from rhodolite.building.description import Described, Description
from rhodolite.building.sources import find_files, from_grids, from_tables
from rhodolite.checking import Severity, check
from rhodolite.errors import DataError
from rhodolite.formats.registry import format_of
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Storage, Variable


def build(inputs: Sequence[str], description: Path) -> Dataset:
    """Return the dataset that files and a description of them make.

    Parameters
    ----------
    inputs : sequence of str
        Tables, text grids, patterns of them, or the folder that holds the grids.
    description : Path

    Raises
    ------
    DataError
        If the description is wrong, with its line, or does not fit the files.
    """
    described = Description.read(description)
    files = find_files(inputs, described)
    grids = described.names is not None and not format_of(files[0]).tabular
    dataset = from_grids(files, described) if grids else from_tables(files, described)
    variables = [
        _describe(v, described.variables[v.name], described)
        if v.name in described.variables
        else v
        for v in dataset.variables.values()
    ]
    record = ({"verb": "build", "description": description.name},)
    built = dataset.with_variables(
        variables, attributes={**dataset.attributes, **described.dataset}, record=record
    )
    _check_lengths(built, described)
    _check_result(built, described)
    return built


def _describe(
    variable: Variable, described: Described, description: Description
) -> Variable:
    data = variable.floats()
    if description.missing is not None:
        data = Mapped(data, _Missing(description.missing), data.dtype)
    data = Mapped(data, _same, described.dtype)
    return replace(
        variable.edit(**described.attributes),
        data=data,
        storage=Storage(chunks=variable.storage.chunks),
    )


class _Missing:
    """Turns one number into missing values."""

    def __init__(self, mark: float) -> None:
        self.mark = mark

    def __call__(self, block: Array) -> Array:
        return np.where(block == self.mark, np.nan, block)


def _same(block: Array) -> Array:
    return block


def _check_lengths(dataset: Dataset, description: Description) -> None:
    roles = {
        "time": Role.TIME,
        "lat": Role.LATITUDE,
        "lon": Role.LONGITUDE,
        "level": Role.LEVEL,
    }
    for name, expected in description.dimensions.items():
        coordinate = dataset.coordinate(roles[name]) if name in roles else None
        dimension = (
            coordinate.dimension
            if coordinate is not None and coordinate.dimension
            else name
        )
        if dimension not in dataset.lengths:
            raise description.mistake(
                "dimensions",
                name,
                f"the files have no dimension '{name}'; they have {', '.join(dataset.lengths)}",
            )
        if dataset.lengths[dimension] != expected:
            raise description.mistake(
                "dimensions",
                name,
                f"{name} is to have {expected} steps, and the files have "
                f"{dataset.lengths[dimension]}",
            )


def _check_result(dataset: Dataset, description: Description) -> None:
    """Refuse a description by which the output would break the conventions."""
    for finding in check(dataset):
        if finding.severity is Severity.ERROR:
            hint = finding.advice.split(": --set")[0]
            advice = f"; {hint}" if hint else ""
            table = (
                f"variables.{finding.where}"
                if finding.where in description.variables
                else None
            )
            if table is None:
                raise DataError(
                    f"{dataset.label}: {finding.where}: {finding.what}{advice}"
                )
            raise description.mistake(table, None, f"{finding.what}{advice}")
