"""Values that formulas of Python are made of: variables of a dataset, under free names."""

from __future__ import annotations

from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable
from rhodolite.operations.expressions.parser import Name, Node


def with_leaf(home: Dataset, plain: Variable) -> tuple[Dataset, Node]:
    """Return a dataset with one more variable, and the part of a formula that names it."""
    name = free_name(home, plain.name)
    leaf = plain.replace(name=name)
    return home.with_variables([*home.variables.values(), leaf]), Name(name)


def free_name(home: Dataset, wanted: str) -> str:
    """Return a name that no variable of a dataset has, and that can stand in a formula."""
    name = wanted if wanted.isidentifier() and wanted.isascii() else "value"
    number, free = 1, name
    while free in home.variables:
        number += 1
        free = f"{name}_{number}"
    return free
