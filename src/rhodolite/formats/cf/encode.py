"""How the values of a variable become stored numbers: type, fill value, packing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import netCDF4
import numpy as np

from rhodolite.arrays import Array, Engine, LazyArray
from rhodolite.errors import DataError
from rhodolite.formats.cf.packing import packing_over_range
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Packing, Storage, Variable

_IN_CACHE = 1 << 17
"""Values that are encoded at once, so that what is between stays in a processor's cache."""


@dataclass(frozen=True)
class Encoding:
    """How the values of one variable become stored numbers.

    Parameters
    ----------
    name : str
        Name of the variable, for messages.
    dtype : dtype
        Type in the file.
    fill : number or None
        What stands for NaN.
    packing : Packing or None
    attributes : mapping
        What describes the stored numbers, apart from the fill value.
    """

    name: str
    dtype: np.dtype[Any]
    fill: Any
    packing: Packing | None
    attributes: Mapping[str, Any]

    def as_written(self, data: LazyArray) -> LazyArray:
        """Return data as they come cheapest to be encoded."""
        as_it_is = self.packing is not None or self.dtype.kind != "f"
        return data if as_it_is else data.rounded(self.dtype)

    def encode(self, values: Array) -> Array:
        """Return stored numbers for values.

        Raises
        ------
        DataError
            If packed integers cannot hold a value.
        """
        if values.dtype.kind != "f" or self.fill is None:
            return values.astype(self.dtype, copy=False)
        if values.size <= _IN_CACHE or not values.flags.c_contiguous:
            return self._encode_floats(values)
        if self.packing is None and values.dtype == self.dtype:
            gaps = np.isnan(values)
            return np.where(gaps, self.fill, values) if gaps.any() else values
        out, flat = np.empty(values.size, self.dtype), values.reshape(-1)
        for start in range(0, flat.size, _IN_CACHE):
            part = slice(start, start + _IN_CACHE)
            out[part] = self._encode_floats(flat[part])
        return out.reshape(values.shape)

    def _encode_floats(self, values: Array) -> Array:
        gaps = np.isnan(values)
        if self.packing is not None:
            values = np.rint(
                (values.astype(np.float64) - self.packing.offset) / self.packing.scale
            )
            limits = np.iinfo(self.dtype)
            beyond = (values < limits.min) | (values > limits.max)
            if beyond.any():
                value = (
                    float(values[beyond][0]) * self.packing.scale + self.packing.offset
                )
                raise DataError(
                    f"{self.name}: the value {value:g} does not fit the packing to {self.dtype}; "
                    f"repack with --pack {self.dtype}"
                )
        if gaps.any():
            values = np.where(gaps, self.fill, values)
        return values.astype(self.dtype, copy=False)


def encoding_for(variable: Variable, dataset: Dataset, engine: Engine) -> Encoding:
    """Return how to store a variable; reads its data where the packing depends on their range."""
    storage = variable.storage
    dtype = np.dtype(storage.dtype or variable.data.dtype)
    packing = None
    if dtype.kind in "iu" and variable.data.dtype.kind == "f":
        packing = storage.packing or packing_over_range(variable, dtype.name, engine)
    fill = None
    if variable.data.dtype.kind == "f" and variable.name not in dataset.axes.auxiliary:
        fill = _fill_value(storage, dtype, packing)
    elif variable.missing is not None and storage.fill_value is not None:
        fill = dtype.type(storage.fill_value)
    return Encoding(
        variable.name, dtype, fill, packing, _attributes(storage, dtype, fill, packing)
    )


def _attributes(
    storage: Storage, dtype: np.dtype[Any], fill: Any, packing: Packing | None
) -> dict[str, Any]:
    """Return the attributes about stored numbers: the packing, and limits of the source that still
    hold."""
    marked: dict[str, Any] = {}
    if packing is not None:
        marked = {"scale_factor": packing.scale, "add_offset": packing.offset}
    if packing == storage.packing and not storage.allows(storage.fill_value):
        marked |= storage.limits
        if fill is not None and "missing_value" in marked:
            marked["missing_value"] = dtype.type(fill)
    return marked


def _fill_value(storage: Storage, dtype: np.dtype[Any], packing: Packing | None) -> Any:
    """Return the number for missing values: that of the source where it still fits the type."""
    if storage.fill_value is not None and (
        storage.packing is None or packing is not None
    ):
        return dtype.type(storage.fill_value)
    return (
        np.iinfo(dtype).min
        if packing is not None
        else dtype.type(netCDF4.default_fillvals[dtype.str[1:]])
    )
