"""A variable as Python meets it: calculated with, cut, and worked on block by block, lazily."""

from __future__ import annotations

import dataclasses
import html
import math
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Self

import numpy as np

from rhodolite.api.leaves import free_name, with_leaf
from rhodolite.api.notebook import attributes_html
from rhodolite.api.operators import (
    formula_of,
    is_number,
    number_node,
    refuse_function,
)
from rhodolite.api.positions import picks_of
from rhodolite.api.watching import make_engine
from rhodolite.arrays import Array, Engine, InMemory, Region, Selected, WithoutAxis
from rhodolite.errors import DataError, UsageError
from rhodolite.model.dataset import Dataset as PlainDataset
from rhodolite.model.indexing import take
from rhodolite.model.variable import Variable as PlainVariable
from rhodolite.operations.expressions.calculation import calculate
from rhodolite.operations.expressions.parser import Call, Formula, Name, Node
from rhodolite.operations.expressions.values import PlainNumbers
from rhodolite.operations.expressions.writer import write_formula
from rhodolite.operations.pairing.alignment import align
from rhodolite.operations.variables.own_functions import run_own_function

_Operator = Callable[[Any, Any], "Variable"]


def _operator(function: str) -> tuple[_Operator, _Operator]:
    """Return the methods of an operator, and of the same with the other value first."""

    def forward(self: Any, other: Any) -> Variable:
        return self.combined(function, self, other)  # type: ignore[no-any-return]

    def reverse(self: Any, other: Any) -> Variable:
        return self.combined(function, other, self)  # type: ignore[no-any-return]

    return forward, reverse


@dataclasses.dataclass(frozen=True, eq=False, repr=False)
class Variable(PlainVariable):
    """A variable of a dataset, to be calculated with as numbers are.

    ``data["tas"] - 273.15``, ``tas > 280`` and ``numpy.sqrt(u**2 + v**2)`` are variables again:
    nothing is read until `values`, ``numpy.asarray`` or `Dataset.write` asks for it, and then block
    by block. Units are checked and derived as in the formulas of `calc`, to which it comes down.
    Comparisons are 1 where true, 0 where false, and missing where a value is. Never changed in
    place.

    Attributes
    ----------
    plain : rhodolite.model.variable.Variable
        The same without these methods.
    home : rhodolite.model.dataset.Dataset
        The dataset whose axes it runs along, with all that it is calculated from.
    tree : Node
        The formula that makes it of the variables of its home.
    """

    plain: PlainVariable = dataclasses.field(kw_only=True)
    home: PlainDataset = dataclasses.field(kw_only=True)
    tree: Node = dataclasses.field(kw_only=True)

    __array_priority__ = 1000

    @classmethod
    def of(
        cls, plain: PlainVariable, home: PlainDataset, tree: Node | None = None
    ) -> Self:
        """Return a variable with these methods.

        Parameters
        ----------
        plain : rhodolite.model.variable.Variable
        home : rhodolite.model.dataset.Dataset
        tree : Node, optional
            How it is made of the variables of its home; it is one of them by default.
        """
        parts = {
            part.name: getattr(plain, part.name)
            for part in dataclasses.fields(PlainVariable)
        }
        return cls(**parts, plain=plain, home=home, tree=tree or Name(plain.name))

    @property
    def dtype(self) -> np.dtype[Any]:
        return self.data.dtype

    @property
    def ndim(self) -> int:
        return self.data.ndim

    @property
    def size(self) -> int:
        return self.data.size

    @property
    def formula(self) -> str:
        """What makes it, as it is typed for `calc`.

        Examples
        --------
        >>> (data["tas"] - 273.15).formula
        'tas - 273.15'
        """
        return write_formula(self.tree)

    def replace(self, **changes: Any) -> Any:
        """Return a plain copy with some fields changed."""
        return self.plain.replace(**changes)

    def edit(self, *names: str, **attributes: Any) -> Any:
        """Return a plain copy without some attributes, and with others set.

        Examples
        --------
        >>> data["tas"].edit(long_name="air").quantity
        'air'
        """
        return self.plain.edit(*names, **attributes)

    def values(self, engine: Engine | None = None) -> Array:
        """Return all values as a NumPy array, of the shape of the variable and in its units.

        Examples
        --------
        >>> (data["tas"] / 2).values().tolist()
        [140.0, 142.0]
        """
        return super().values(engine or make_engine())

    def _repr_html_(self) -> str:
        about = html.escape(repr(self))
        return f"<pre>{about}</pre>{attributes_html(self.name, self.attributes)}"

    def floats(self) -> Any:
        return self.plain.floats()

    __hash__ = object.__hash__
    __add__, __radd__ = _operator("+")
    __sub__, __rsub__ = _operator("-")
    __mul__, __rmul__ = _operator("*")
    __truediv__, __rtruediv__ = _operator("/")
    __pow__, __rpow__ = _operator("^")
    __and__, __rand__ = _operator("and")
    __or__, __ror__ = _operator("or")
    __lt__, __le__ = _operator("<")[0], _operator("<=")[0]
    __gt__, __ge__ = _operator(">")[0], _operator(">=")[0]
    __eq__, __ne__ = _operator("==")[0], _operator("!=")[0]  # type: ignore[assignment]

    def __neg__(self) -> Variable:
        return self.combined("negative", self)  # type: ignore[no-any-return]

    def __pos__(self) -> Variable:
        return self

    def __abs__(self) -> Variable:
        return self.combined("abs", self)  # type: ignore[no-any-return]

    def __invert__(self) -> Variable:
        return self.combined("not", self)  # type: ignore[no-any-return]

    def __array_ufunc__(
        self, function: Any, method: str, *given: Any, **settings: Any
    ) -> Any:
        if method != "__call__" or settings:
            # Sums, outer products and what writes into an array are NumPy's own work.
            return getattr(function, method)(*map(_as_array, given), **settings)
        named = formula_of(function, given)
        if named is not None:
            return self.combined(named[0], *named[1])
        if function in (np.isfinite, np.isinf) and len(given) == 1:
            sign = "<" if function is np.isfinite else "=="
            compared = self.combined(sign, abs(self), math.inf)
            return self.combined("where", self.combined("missing", self), 0, compared)
        raise refuse_function(function)

    def __array_function__(
        self, function: Any, types: Any, given: Any, settings: Any
    ) -> Any:
        if function is np.where and len(given) == 3 and not settings:
            return self.combined("where", *given)
        if function is np.clip:
            return self._clipped(*given[1:], **settings)
        arrays = {name: _as_array(value) for name, value in settings.items()}
        return function(*map(_as_array, given), **arrays)

    def _clipped(self, a_min: Any = None, a_max: Any = None, **limits: Any) -> Variable:
        low, high = limits.get("min", a_min), limits.get("max", a_max)
        clipped = self if low is None else self.combined("max", self, low)
        return clipped if high is None else self.combined("min", clipped, high)

    def combined(self, function: str, *values: Any) -> Any:
        """Return what an operator or a function of formulas makes of variables and numbers.

        Parameters
        ----------
        function : str
            What formulas call it, such as ``"+"`` or ``"speed"``.
        *values
            Variables, numbers, and arrays of the shape of this variable.

        Raises
        ------
        DataError
            If units, cells or times do not go together.
        """
        known = (Variable, np.ndarray, list, tuple)
        if not all(isinstance(value, known) or is_number(value) for value in values):
            return NotImplemented
        variables = [value for value in values if isinstance(value, Variable)]
        largest = max(variables, key=lambda variable: variable.ndim)
        home, nodes = largest.home, []
        for value in values:
            home, node = _node_in(home, largest, value)
            nodes.append(node)
        return self._of_formula(home, Call(function, tuple(nodes)))

    @staticmethod
    def _of_formula(home: PlainDataset, tree: Node) -> Variable:
        text = write_formula(tree)
        try:
            return Variable.of(calculate(home, tree, text, text), home, tree)
        except DataError as error:
            raise DataError(str(error).removeprefix("--formula: ")) from None

    def __getitem__(self, key: Any) -> Variable:
        """Return the cells at some positions, as NumPy counts them: numbers, slices, ..., and lists
        of numbers or truth values along one axis each."""
        picks = picks_of(key, self)
        along = {name: np.atleast_1d(pick) for name, pick in picks.items()}
        indices = [along.get(name) for name in self.dimensions]
        data, dimensions = Selected(self.data, indices), list(self.dimensions)
        for name, pick in picks.items():
            if np.ndim(pick) == 0:
                data = WithoutAxis(data, dimensions.index(name))  # type: ignore[assignment]
                dimensions.remove(name)
        cut = self.plain.replace(data=data, dimensions=tuple(dimensions))
        tree = self.tree
        name = tree.name if isinstance(tree, Name) else free_name(self.home, "value")
        home = take(self.home, along)
        others = [v for v in home.variables.values() if v.name != name]
        home = home.with_variables([*others, cut.replace(name=name)])
        return Variable.of(cut, home, Name(name))

    def __iter__(self) -> Iterator[Variable]:
        if not self.ndim:
            raise TypeError(f"{self.name} is a single value, and has no parts")
        return (self[at] for at in range(len(self)))

    def __len__(self) -> int:
        if not self.ndim:
            raise TypeError(f"{self.name} is a single value, and has no length")
        return self.shape[0]

    def __bool__(self) -> bool:
        if self.size != 1:
            raise ValueError(
                f"{self.name} has {self.size:,} values, which are not true or false together; ask "
                "numpy.any(...) or numpy.all(...)"
            )
        return bool(self.values().reshape(-1)[0])

    def __float__(self) -> float:
        if self.size != 1:
            raise TypeError(
                f"{self.name} has {self.size:,} values, and is no single number"
            )
        return float(self.values().reshape(-1)[0])

    def calculate(
        self,
        function: Callable[[Array], Any],
        *,
        along: str | Sequence[str] = (),
        units: str | None = None,
        drop: bool = False,
    ) -> Variable:
        """Return what a function of one's own makes of the values, block by block and lazily.

        Parameters
        ----------
        function : callable
            Takes an array of float64 with NaN where values are missing, and returns one of the
            same shape. It is called in several threads at once, or on the machines of a cluster.
        along : str or sequence of str
            Dimensions that it needs all values of, such as ``"time"``, or ``("lat", "lon")``; what
            it gets are all values along these and some along the others, in the order of the
            dimensions of the variable.
        units : str, optional
            Of what it returns; those of the variable by default.
        drop : bool
            Whether it leaves out the dimensions in `along`, as a sum does.

        Raises
        ------
        UsageError
            If the variable has no such dimension, or, when it is read, the function returns
            another shape.

        Examples
        --------
        >>> data["tas"].calculate(lambda block: block**0.5, units="K0.5").shape
        (2,)
        """
        wanted = (along,) if isinstance(along, str) else tuple(along)
        result = run_own_function(self.plain, function, wanted, units=units, drop=drop)
        home, node = with_leaf(self.home, result)
        return Variable.of(result, home, node)

    def blocks(
        self, *, along: str | Sequence[str] = (), memory: int | str | None = None
    ) -> Iterator[tuple[Region, Array]]:
        """Yield all values in blocks, each with its place: one slice an axis.

        Parameters
        ----------
        along : str or sequence of str
            Dimensions that no block is cut along.
        memory : int or str, optional
            Bytes that the blocks at hand may take together, or a size such as ``"512MiB"``.

        Examples
        --------
        >>> [block.tolist() for _, block in data["tas"].blocks()]
        [[280.0, 284.0]]
        """
        wanted = (along,) if isinstance(along, str) else tuple(along)
        for name in wanted:
            if name not in self.dimensions:
                raise UsageError(
                    f"along: {self.name} has no dimension '{name}'; it has "
                    f"{', '.join(self.dimensions)}"
                )
        engine = make_engine(memory=memory)
        unit = tuple(
            length if name in wanted else 1
            for name, length in zip(self.dimensions, self.shape, strict=True)
        )
        yield from engine.stream_units(_read, self.data, unit, f"reading {self.name}")


def _read(data: Any, region: Region) -> Array:
    return np.asarray(data.read(region))


def _as_array(value: Any) -> Any:
    if isinstance(value, Variable):
        return value.values()
    if isinstance(value, (list, tuple)):
        return type(value)(_as_array(item) for item in value)
    return value


def _node_in(
    home: PlainDataset, largest: Variable, value: Any
) -> tuple[PlainDataset, Node]:
    """Return a dataset in which a value is known by a name, and the part of a formula for it."""
    if is_number(value):
        return home, number_node(value)
    if not isinstance(value, Variable):
        array = np.asarray(value)
        if array.dtype.kind not in "biuf" or array.shape != largest.shape:
            raise UsageError(
                f"an array of shape {array.shape} beside {largest.name}, whose shape is "
                f"{largest.shape}; arrays have to be of numbers, and of the same shape"
            )
        plain = PlainNumbers("array", largest.dimensions, InMemory(array * 1.0))
        return with_leaf(home, plain)
    if knows(home, value):
        return home, value.tree
    return with_leaf(home, align(home, value.home, value.plain))


def knows(home: PlainDataset, value: Variable) -> bool:
    """Return whether all that a variable is made of stands in a dataset, under the same names."""
    if value.home is home:
        return True
    names = Formula("", value.tree).names()
    theirs = value.home.variables
    axes = [name for name in value.dimensions if name in theirs]
    return all(home.variables.get(name) is theirs[name] for name in (*names, *axes))
