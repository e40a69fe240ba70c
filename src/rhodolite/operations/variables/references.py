"""Datasets whose data lose or change axes: what described the old ones goes, and what names it is
kept true."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from rhodolite.arrays import Array, InMemory
from rhodolite.model.cf.named_variables import keep_named, lost_in, named_in
from rhodolite.model.cf.vocabulary import STALE_AFTER_CHANGE
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable


def without_axes(
    dataset: Dataset,
    gone: Collection[str],
    results: Mapping[str, Sequence[Variable]],
    added: Iterable[Variable] = (),
) -> Dataset:
    """Return a dataset with data variables replaced, without all else that runs along the
    dimensions that go.

    Parameters
    ----------
    gone : collection of str
        Dimensions that no longer exist, or have other cells now.
    results : mapping of str to sequence of Variable
        What comes in the place of a data variable.
    added : iterable of Variable
        What describes new axes.
    """
    remaining: list[Variable] = []
    for name, variable in dataset.variables.items():
        if name in results:
            remaining += results[name]
        elif not set(gone) & set(variable.dimensions):
            remaining.append(variable)
    new = list(added)
    replaced = {extra.name for extra in new}
    remaining = [v for v in remaining if v.name not in replaced]
    # A projection that no field refers to any more describes nothing.
    mappings = _mappings_of(dataset.variables.values())
    unused = mappings - _mappings_of(remaining)
    names = {v.name for v in (*remaining, *new)}
    pointing = [
        _keep_measures(keep_named(v, names), names)
        for v in remaining
        if v.name not in unused
    ]
    return dataset.with_variables([*new, *pointing])


def _keep_measures(variable: Variable, names: Collection[str]) -> Variable:
    """Return a variable without the areas of cells that are gone."""
    lost = lost_in(variable, "cell_measures", names)
    return variable.edit("cell_measures") if lost else variable


def _mappings_of(variables: Iterable[Variable]) -> set[str]:
    return {name for v in variables for name in named_in(v, "grid_mapping")}


def drop_stale(variable: Variable, *more: str) -> Variable:
    """Return a variable without the attributes that new values make untrue, and without more."""
    return variable.edit(*STALE_AFTER_CHANGE, *more)


def list_coordinate(variable: Variable, name: str) -> Variable:
    """Return a variable that lists one more auxiliary coordinate."""
    listed = str(variable.attributes.get("coordinates", "")).split()
    return (
        variable
        if name in listed
        else variable.edit(coordinates=" ".join([*listed, name]))
    )


def with_bounds(dataset: Dataset, name: str, cells: Array) -> Dataset:
    """Return a dataset in which a coordinate without bounds has these.

    Parameters
    ----------
    dataset : Dataset
    name : str
        Of the coordinate.
    cells : ndarray, shape (*shape of the coordinate, n)
        Ends or corners of each cell.
    """
    called, ends, count = (
        f"{name}_bnds",
        "bnds" if cells.ndim == 2 else "corners",
        cells.shape[-1],
    )
    while called in dataset.variables:
        called += "_"
    while dataset.lengths.get(ends, count) != count:
        ends += "_"
    described = dataset.variables[name].edit(bounds=called)
    bounds = Variable(called, (*described.dimensions, ends), InMemory(cells))
    variables = [described if v.name == name else v for v in dataset.variables.values()]
    return dataset.with_variables([*variables, bounds])
