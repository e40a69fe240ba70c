"""From a formula and a dataset to the variable that it makes, computed block by block."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import Aligned, Array, LazyArray, Mapped, Region
from rhodolite.errors import DataError
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.udunits import is_temperature
from rhodolite.model.variable import Variable
from rhodolite.operations.expressions.compiler import ProgramBuilder
from rhodolite.operations.expressions.elements import Program
from rhodolite.operations.expressions.parser import Node
from rhodolite.operations.expressions.values import Value


def calculate(dataset: Dataset, tree: Node, name: str, text: str) -> Variable:
    """Return what a formula makes of the variables of a dataset, with units that are derived.

    Parameters
    ----------
    dataset : Dataset
    tree : Node
        The formula.
    name : str
        Of the result.
    text : str
        The formula as it is written, for the comment.

    Returns
    -------
    Variable
        Of double precision where a variable was stored with it, and of single precision otherwise;
        its data are a `Mapped` of what was computed in double precision.

    Raises
    ------
    DataError
        If a name is not there, or units or axes do not go together.
    """
    builder = ProgramBuilder(dataset)
    root = builder.value(tree)
    if not builder.leaves:
        raise DataError(f"--formula {text}: there is no variable in it")
    dimensions, shape = _axes_of(dataset, builder.leaves)
    aligned = [
        Aligned(leaf.floats(), leaf.dimensions, dimensions, shape)
        for leaf in builder.leaves
    ]
    exact: LazyArray = Calculated(aligned, root.program, shape)
    rounded = Mapped(exact, np.asarray, _type_of(builder.leaves))
    about = _describe(dataset, builder.leaves, root)
    about["long_name"], about["comment"] = name.replace("_", " "), f"{name} = {text}"
    return Variable(name, dimensions, rounded, about)


def _describe(dataset: Dataset, leaves: list[Variable], root: Value) -> dict[str, Any]:
    """Return the attributes that the result of a formula has by what it is made of."""
    about: dict[str, Any] = {"long_name": "", "units": root.units, "comment": ""}
    if root.difference and is_temperature(root.units):
        about["units_metadata"] = "temperature: difference"
    main = max(leaves, key=lambda leaf: leaf.data.size)
    about |= placing_of(main)
    fields = [leaf for leaf in leaves if leaf.name not in dataset.axes.auxiliary]
    methods = {str(leaf.attributes.get("cell_methods", "")) for leaf in fields}
    if len(methods) == 1 and methods != {""}:
        about["cell_methods"] = methods.pop()
    return about


def _type_of(leaves: list[Variable]) -> np.dtype[Any]:
    """Return double precision where a variable has it, and was not only unpacked to it."""
    return np.dtype(max(leaf.precision for leaf in leaves))


def _axes_of(
    dataset: Dataset, leaves: list[Variable]
) -> tuple[tuple[str, ...], tuple[int, ...]]:
    """Return the dimensions of the result: those of all leaves, in the order in which most have
    them."""
    longest = max(leaves, key=lambda leaf: leaf.data.ndim)
    dimensions = list(longest.dimensions)
    sizes: dict[str, int] = {}
    for leaf in leaves:
        for name, n in zip(leaf.dimensions, leaf.shape, strict=True):
            if sizes.setdefault(name, n) != n:
                raise DataError(
                    f"{dataset.label}: the axis {name} has {sizes[name]} cells and {n}, in one "
                    "formula"
                )
        dimensions += [name for name in leaf.dimensions if name not in dimensions]
    return tuple(dimensions), tuple(sizes[name] for name in dimensions)


class Calculated(LazyArray):
    """What a program makes of the blocks of several aligned arrays, in float64."""

    dtype = np.dtype("f8")

    def __init__(
        self, parts: list[Aligned], program: Program, shape: tuple[int, ...]
    ) -> None:
        self._parts, self._program, self.shape = parts, program, shape
        self.chunks = max(parts, key=lambda part: part.places).chunks

    def sources(self) -> tuple[LazyArray, ...]:
        return tuple(self._parts)

    def read(self, region: Region) -> Array:
        values = self._program(
            [part.read(region).astype(np.float64) for part in self._parts]
        )
        return np.broadcast_to(
            values, tuple(part.stop - part.start for part in region)
        ).copy()
