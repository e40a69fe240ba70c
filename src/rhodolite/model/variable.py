"""A variable: named dimensions, a lazy array, attributes, and how it is stored."""

from __future__ import annotations

import html
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Self

import numpy as np

from rhodolite.arrays import Array, Engine, LazyArray, Mapped
from rhodolite.errors import warn
from rhodolite.model.cf.vocabulary import STALE_AFTER_CHANGE
from rhodolite.model.read_only import as_read_only

UNITS_OF_ONE = "1"


@dataclass(frozen=True)
class Packing:
    """Real values kept as integers: value = stored * scale + offset (CF 8.1)."""

    dtype: str
    scale: float = 1.0
    offset: float = 0.0


@dataclass(frozen=True)
class Storage:
    """How a variable lies in a file; what is None is for the writer to choose.

    Parameters
    ----------
    dtype : str, optional
        Type in the file where it is not that of the values.
    fill_value : number, optional
        What stands for a missing value in the file.
    chunks : tuple of int, optional
        Shape of the pieces that are compressed one by one.
    filters : tuple of str
        Compression steps in people's words, such as ``("shuffle", "deflate 4")``.
    packing : Packing, optional
    limits : mapping
        The attributes `missing_value` and `valid_min`, `valid_max` or `valid_range` of the file,
        about the numbers as they are stored.
    """

    dtype: str | None = None
    fill_value: Any = None
    chunks: tuple[int, ...] | None = None
    filters: tuple[str, ...] = ()
    packing: Packing | None = None
    limits: Mapping[str, Any] = field(default_factory=dict)

    @property
    def valid_range(self) -> tuple[Any, Any]:
        """Minimum and maximum stored number that is not a missing value; None where there is no
        limit."""
        if np.size(self.limits.get("valid_range", ())) == 2:
            low, high = self.limits["valid_range"]
            return low, high
        return self.limits.get("valid_min"), self.limits.get("valid_max")

    def allows(self, mark: Any) -> bool:
        """Return whether a number that stands for missing values lies within limits that are
        given."""
        low, high = self.valid_range
        if mark is None or (low is None and high is None):
            return False
        return bool(
            (low is None or np.all(mark >= low))
            and (high is None or np.all(mark <= high))
        )


@dataclass(frozen=True, eq=False)
class Variable:
    """One variable of a dataset.

    Missing values are NaN in floating-point data. Integers keep their type, and `missing` says
    which number stands for a missing value, if any.
    """

    name: str
    dimensions: tuple[str, ...]
    data: LazyArray
    attributes: Mapping[str, Any] = field(default_factory=dict)
    storage: Storage = Storage()
    missing: int | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "attributes", as_read_only(self.attributes))
        if len(self.dimensions) != self.data.ndim:
            raise ValueError(
                f"{self.name}: {len(self.dimensions)} dimension names for {self.data.ndim} axes"
            )
        if len(set(self.dimensions)) < self.data.ndim:
            object.__setattr__(self, "dimensions", self._distinct_dimensions())

    def _distinct_dimensions(self) -> tuple[str, ...]:
        """Return the dimensions with another name for each that stands twice, as in a matrix of
        covariances: nothing that is said of one axis is said of the other."""
        names: list[str] = []
        for name in self.dimensions:
            number, distinct = 1, name
            while distinct in names:
                number += 1
                distinct = f"{name}_{number}"
            names.append(distinct)
        warn(
            f"{self.name} runs along {', '.join(self.dimensions)}; here: {', '.join(names)}"
        )
        return tuple(names)

    @property
    def shape(self) -> tuple[int, ...]:
        return self.data.shape

    @property
    def units(self) -> str | None:
        """The units as text; None where the variable has none."""
        units = self.attributes.get("units")
        return None if units is None else str(units).strip()

    @property
    def quantity(self) -> str:
        """What the variable is, in people's words: its long name, standard name or name."""
        for key in ("long_name", "standard_name"):
            if text := str(self.attributes.get(key, "")).strip():
                return text.replace("_", " ") if key == "standard_name" else text
        return self.name

    @property
    def numeric(self) -> bool:
        """Whether the values are numbers to calculate with, not text or classes."""
        return self.data.dtype.kind in "fiu" and not self.classes

    @property
    def classes(self) -> bool:
        """Whether the values are numbers of classes, or flags of which each is a bit (CF 3.5)."""
        flagged = {"flag_values", "flag_masks"} & self.attributes.keys()
        return bool(flagged) and self.data.dtype.kind in "fiu"

    @property
    def precision(self) -> str:
        """In what values are compared with thresholds: `f4` for single precision, also where they
        were packed so."""
        single = self.storage.dtype == "float32" or self.floats().dtype.itemsize <= 4
        return "f4" if single else "f8"

    def floats(self) -> LazyArray:
        """Return the data as floating-point numbers, with NaN where values are missing.

        Always the same array, so that all who need it can share a pass over it.
        """
        return self._floats

    @cached_property
    def _floats(self) -> LazyArray:
        if self.data.dtype.kind == "f":
            return self.data
        target = np.dtype("f4") if self.data.dtype.itemsize <= 2 else np.dtype("f8")
        return Mapped(self.data, _ToFloat(self.missing, target), target)

    def with_floats(
        self, values: LazyArray, dimensions: tuple[str, ...] | None = None
    ) -> Variable:
        """Return the variable with other values, made of its floating-point numbers; classes are
        integers again, of which one stands for what is missing.

        Parameters
        ----------
        values : LazyArray
            Floating-point numbers, NaN where values are missing.
        dimensions : tuple of str, optional
            Names of the axes, of other cells; left out where the values lie on the same.
        """
        whole = self.classes and self.data.dtype.kind in "iu"
        mark = self._mark_of_classes() if whole else None
        storage = self.storage
        if dimensions is not None:
            storage = replace(storage, chunks=None)
            if self.data.dtype.kind == "f":  # their packing was made for other values
                storage = Storage(dtype=storage.dtype)
        if mark is not None:
            dtype = self.data.dtype
            values = Mapped(values, _ToInteger(mark, dtype), dtype)
            storage = replace(storage, fill_value=mark)
        return self.replace(
            dimensions=dimensions or self.dimensions,
            data=values,
            missing=mark,
            storage=storage,
        )

    def _mark_of_classes(self) -> int | None:
        """Return an integer that is no class; None where all are."""
        if self.missing is not None:
            return self.missing
        limits = np.iinfo(self.data.dtype)
        offered = (
            (int(limits.min), int(limits.max)) if limits.min else (int(limits.max),)
        )
        masks = np.atleast_1d(self.attributes.get("flag_masks", 0)).astype(np.int64)
        bits = int(np.bitwise_or.reduce(masks))
        used = np.atleast_1d(self.attributes.get("flag_values", ())).tolist()
        return next((n for n in offered if n not in used and n & ~bits), None)

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Array:
        return self.values() if dtype is None else self.values().astype(dtype)

    def __len__(self) -> int:
        return self.shape[0]

    def __bool__(self) -> bool:
        return True

    def __str__(self) -> str:
        lengths = zip(self.dimensions, self.shape, strict=True)
        along = (
            ", ".join(f"{name} {length}" for name, length in lengths)
            or "a single value"
        )
        lines = [
            f"{self.name}: {self.quantity}, in {self.units or 'no units'}",
            f"  along {along}",
        ]
        lines += [f"  {key}: {value}" for key, value in self.attributes.items()]
        return "\n".join(lines)

    def __repr__(self) -> str:
        lengths = zip(self.dimensions, self.shape, strict=True)
        along = ", ".join(f"{name} {length}" for name, length in lengths)
        return f"<Variable {self.name} ({self.units or 'no units'}): {along}>"

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(str(self))}</pre>"

    def values(self, engine: Engine | None = None) -> Array:
        """Return all values as a NumPy array, of the shape of the variable and in its units."""
        return (engine or Engine()).compute(self.data)

    def replace(self, **changes: Any) -> Self:
        """Return a copy with some fields changed."""
        return replace(self, **changes)

    def derive(
        self,
        data: LazyArray,
        *,
        dimensions: tuple[str, ...] | None = None,
        attributes: Mapping[str, Any] | None = None,
    ) -> Self:
        """Return a variable of values that were computed from those of this one.

        The values are rounded to the precision of this variable. What was said of the old
        values goes: their packing, their mark for missing values and their limits.

        Parameters
        ----------
        data : LazyArray
            New values, NaN where there is none.
        dimensions : tuple of str, optional
            Where they lie; as here unless given.
        attributes : mapping, optional
            All attributes of the new variable; without it, those of this one that are not
            about its values.
        """
        precision = self.floats().dtype
        if data.dtype != precision:
            data = Mapped(data, np.asarray, precision)
        # Pieces of a file suit one shape, and the type of its numbers suits any.
        chunks = self.storage.chunks if data.shape == self.shape else None
        plain = self.edit(*STALE_AFTER_CHANGE) if attributes is None else self
        return plain.replace(
            data=data,
            dimensions=self.dimensions if dimensions is None else dimensions,
            attributes=plain.attributes if attributes is None else dict(attributes),
            storage=Storage(dtype=self.storage.dtype, chunks=chunks),
            missing=None,
        )

    def edit(self, *names: str, **attributes: Any) -> Self:
        """Return a copy without some attributes, and with others set."""
        remaining = {
            key: value for key, value in self.attributes.items() if key not in names
        }
        return replace(self, attributes={**remaining, **attributes})


@dataclass(frozen=True)
class _ToInteger:
    missing: int
    dtype: np.dtype[Any]

    def __call__(self, block: Array) -> Array:
        return np.where(np.isnan(block), self.missing, block).astype(self.dtype)


@dataclass(frozen=True)
class _ToFloat:
    missing: int | None
    dtype: np.dtype[Any]

    def __call__(self, block: Array) -> Array:
        values = np.array(block, dtype=self.dtype)
        if self.missing is not None:
            values[np.asarray(block == self.missing)] = np.nan
        return values
