"""Datasets whose data lose or change axes: what described the old ones goes, and what names it is
kept true."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from rhodolite.arrays import Array, InMemory
from rhodolite.model.cf.vocabulary import CELL_BOUNDS, NAME_LISTS, STALE_AFTER_CHANGE
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
    mappings = {_mapping_of(v) for v in dataset.variables.values()}
    unused = mappings - {_mapping_of(v) for v in remaining}
    names = {v.name for v in (*remaining, *new)}
    pointing = [_pointing_to(v, names) for v in remaining if v.name not in unused]
    return dataset.with_variables([*new, *pointing])


def _mapping_of(variable: Variable) -> str:
    return str(variable.attributes.get("grid_mapping", ""))


def drop_stale(variable: Variable, *more: str) -> Variable:
    """Return a variable without the attributes that new values or cells make untrue."""
    return variable.edit(*STALE_AFTER_CHANGE, "cell_measures", *more)


def _pointing_to(variable: Variable, names: Collection[str]) -> Variable:
    """Return a variable that lists only what there is."""
    for key in NAME_LISTS:
        if key in variable.attributes:
            words = [
                word for word in str(variable.attributes[key]).split() if word in names
            ]
            variable = variable.edit(key)
            if words:
                variable = variable.edit(**{key: " ".join(words)})
    for key in CELL_BOUNDS:
        if key in variable.attributes and str(variable.attributes[key]) not in names:
            variable = variable.edit(key)
    return variable


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
