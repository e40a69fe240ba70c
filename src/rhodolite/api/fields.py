"""Variables that were calculated, put into a dataset under a name."""

from __future__ import annotations

from typing import Any, TypeVar

from rhodolite.api.variable import Variable, knows
from rhodolite.errors import UsageError
from rhodolite.model.dataset import Dataset
from rhodolite.operations.calc import Calc
from rhodolite.operations.expressions.parser import Formula, Name
from rhodolite.operations.pairing.alignment import align

AnyDataset = TypeVar("AnyDataset", bound=Dataset)


def add_field(dataset: AnyDataset, name: str, value: Any) -> AnyDataset:
    """Return a dataset with one more variable.

    Parameters
    ----------
    dataset : Dataset
    name : str
    value : Variable

    Raises
    ------
    UsageError
        If the name is taken or is none, or the value is no variable.
    DataError
        If the variable lies on other cells or times.
    """
    if not isinstance(value, Variable):
        raise UsageError(
            f"{name}: a field is a variable of a dataset or what was calculated from some, and "
            f"not {type(value).__name__}; from_arrays makes a dataset of arrays"
        )
    if not name.isidentifier():
        raise UsageError(
            f"'{name}' is no name of a field; names are of letters, digits and _"
        )
    if name in dataset.variables:
        raise UsageError(
            f"{name}: the dataset has a variable of this name; choose another"
        )
    if _can_be_typed(dataset, value):
        # The same as calc on the command line, which can be done again from the record.
        calc = Calc(formula=value.formula, name=name, keep=True)  # type: ignore[arg-type]
        return calc(dataset)  # type: ignore[return-value]
    plain = align(dataset, value.home, value.plain).replace(name=name)
    if not isinstance(value.tree, Name):
        long_name, comment = name.replace("_", " "), f"{name} = {value.formula}"
        plain = plain.edit(long_name=long_name, comment=comment)
    return dataset.with_variables([*dataset.variables.values(), plain])


def _can_be_typed(dataset: Dataset, value: Variable) -> bool:
    """Return whether a formula over the variables of a dataset says it all."""
    if not knows(dataset, value):
        return False
    try:
        return Formula.parse(value.formula).tree == value.tree
    except ValueError:
        return False
