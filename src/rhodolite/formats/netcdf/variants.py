"""The variants of NetCDF that can be written, and what fits into the older ones."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import netCDF4
import numpy as np

from rhodolite.arrays import Array, Engine, MinMax, Reduction
from rhodolite.errors import DataError
from rhodolite.formats.cf.encode import Encoding
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

LIBRARY_NAMES: dict[str, Any] = {
    "netcdf4": "NETCDF4",
    "netcdf4-classic": "NETCDF4_CLASSIC",
    "netcdf3-classic": "NETCDF3_CLASSIC",
    "netcdf3-64bit": "NETCDF3_64BIT_OFFSET",
    "netcdf3-64bit-data": "NETCDF3_64BIT_DATA",
}
_CLASSIC_TYPES = ("i1", "i2", "i4", "f4", "f8")
_WIDE_TYPES = (*_CLASSIC_TYPES, "u1", "u2", "u4", "i8", "u8")
_LARGEST = {"netcdf3-classic": 2**31 - 4, "netcdf3-64bit": 2**32 - 4}
"""Bytes of one variable, or of one step of it where time is unlimited."""


def types_of(variant: str) -> tuple[str, ...]:
    """Return the codes of the number types that a variant has.

    Parameters
    ----------
    variant : str
        Variant of the format, such as ``netcdf3-classic``.
    """
    return (
        _CLASSIC_TYPES
        if variant in ("netcdf4-classic", "netcdf3-classic", "netcdf3-64bit")
        else _WIDE_TYPES
    )


def fit_into_variant(
    variable: Variable, encoding: Encoding, variant: str, engine: Engine
) -> Encoding:
    """Return an encoding whose type the variant has.

    Parameters
    ----------
    variable : Variable
    encoding : Encoding
    variant : str
        Variant of the format, such as ``netcdf3-classic``.
    engine : Engine
        What computes the values.

    Raises
    ------
    DataError
        If the variable holds integers that no type of the variant can hold.
    """
    code, types = encoding.dtype.str[1:], types_of(variant)
    if encoding.dtype.kind not in "iu" or code in types:
        return encoding
    for wider in ("i2", "i4"):
        if np.can_cast(encoding.dtype, wider):
            return replace(encoding, dtype=np.dtype(wider))
    low, high = _range_of(variable, engine)
    limits = np.iinfo("i4")
    if low < limits.min or high > limits.max:
        raise DataError(
            f"{variable.name} holds integers from {low:.0f} to {high:.0f}, more than the 32 bits "
            f"of {variant}; write netcdf4 or netcdf3-64bit-data"
        )
    return replace(encoding, dtype=np.dtype("i4"))


def with_free_fill(
    variable: Variable, encoding: Encoding, variant: str, engine: Engine
) -> Encoding:
    """Return an encoding in which no integer is taken for a missing value.

    Without a fill value of its own a variable has the usual one of its type, and where its data
    hold that number every reader would take it as missing. It then gets one that they do not hold,
    or a wider type where they hold both ends of their own.

    Parameters
    ----------
    variable : Variable
    encoding : Encoding
    variant : str
        Variant of the format, such as ``netcdf3-classic``.
    engine : Engine
        What computes the values.

    Raises
    ------
    DataError
        If the data hold all numbers of the widest type.
    """
    dtype = encoding.dtype
    marked = encoding.fill is not None or variable.missing is not None
    if marked or dtype.kind not in "iu" or dtype.itemsize == 1:
        return encoding
    low, high = _range_of(variable, engine)
    if not low <= float(netCDF4.default_fillvals[dtype.str[1:]]) <= high:
        return encoding
    limits = np.iinfo(dtype)
    if low > float(limits.min):
        return replace(encoding, fill=dtype.type(limits.min))
    if high < float(limits.max):
        return replace(encoding, fill=dtype.type(limits.max))
    return replace(encoding, dtype=_wider_type(variable, dtype, variant))


def _wider_type(
    variable: Variable, dtype: np.dtype[Any], variant: str
) -> np.dtype[Any]:
    """Return the next type of integers that holds one number more."""
    for code in ("i4", "i8"):
        wider = np.dtype(code)
        if code in types_of(variant) and wider != dtype and np.can_cast(dtype, wider):
            return wider
    raise DataError(
        f"{variable.name} holds the smallest and the largest number of {dtype.name}, so that "
        "none is left for missing values; turn it into another type"
    )


def _range_of(variable: Variable, engine: Engine) -> tuple[float, float]:
    what = f"finding the range of {variable.name}"
    low, high = engine.compute(
        Reduction(variable.data, MinMax()).output("extremes", (2,)), what
    )
    return float(low), float(high)


def fitted_attributes(attributes: Mapping[str, Any], variant: str) -> dict[str, Any]:
    """Return attributes that a variant can hold; None, which no file holds, is left out.

    Parameters
    ----------
    attributes : mapping of str to object
    variant : str
        Variant of the format, such as ``netcdf3-classic``.
    """
    present = {key: value for key, value in attributes.items() if value is not None}
    if variant == "netcdf4":
        return present
    return {
        key: _fitted_attribute(value, types_of(variant))
        for key, value in present.items()
    }


def _fitted_attribute(value: Any, types: tuple[str, ...]) -> Any:
    if isinstance(value, str):
        return value
    values = np.asarray(value)
    if values.dtype.kind in "UO":
        return ", ".join(str(item) for item in values.reshape(-1))
    if values.dtype.kind in "iub" and values.dtype.str[1:] not in types:
        limits = np.iinfo("i4")
        fits = values.size == 0 or (
            values.min() >= limits.min and values.max() <= limits.max
        )
        return values.astype("i4" if fits else "f8")
    return value


def unlimited_in(dataset: Dataset, variant: str) -> frozenset[str]:
    """Return the dimensions that can stay unlimited: in the older variants one, the first of its
    variables.

    Parameters
    ----------
    dataset : Dataset
    variant : str
        Variant of the format, such as ``netcdf3-classic``.
    """
    if variant == "netcdf4":
        return dataset.unlimited
    used = {v.dimensions for v in dataset.variables.values()}
    first = [
        name
        for name in dataset.unlimited
        if all(d.index(name) == 0 for d in used if name in d)
    ]
    return frozenset(sorted(first)[:1])


def check_sizes(dataset: Dataset, encodings: list[Encoding], variant: str) -> None:
    """Refuse variables that are too large for a variant, before anything is written.

    Parameters
    ----------
    dataset : Dataset
    encodings : list of Encoding
    variant : str
        Variant of the format, such as ``netcdf3-classic``.

    Raises
    ------
    DataError
    """
    limit = _LARGEST.get(variant)
    growing = unlimited_in(dataset, variant)
    for variable, encoding in zip(dataset.variables.values(), encodings, strict=True):
        shape = (
            variable.shape[1:]
            if set(variable.dimensions[:1]) & growing
            else variable.shape
        )
        size = int(np.prod(shape, dtype=np.int64)) * encoding.dtype.itemsize
        if limit is not None and size > limit:
            raise DataError(
                f"{variable.name} takes {size:,} bytes, more than {variant} can hold in one "
                "variable; write netcdf4 or netcdf3-64bit-data"
            )


def as_characters(
    name: str, dimensions: tuple[str, ...], values: Array
) -> tuple[tuple[str, ...], Array]:
    """Return text as an array of single characters, with the dimension that they need (CF 2.2)."""
    encoded = np.char.encode(values.astype(str), "utf-8")
    width = max(1, encoded.dtype.itemsize)
    letters = np.frombuffer(encoded.astype(f"S{width}").tobytes(), "S1").reshape(
        *values.shape, width
    )
    return (*dimensions, f"{name}_length"), letters
