"""From stored numbers to values: packing, fill values and valid ranges (CF 2.5.1 and 8.1)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Self

import netCDF4
import numpy as np

from rhodolite.arrays import Array, LazyArray
from rhodolite.model.variable import Packing, Storage, Variable

_LIMITS = ("missing_value", "valid_min", "valid_max", "valid_range")
STORAGE_ATTRIBUTES = ("_FillValue", "scale_factor", "add_offset", "_Unsigned", *_LIMITS)
"""Attributes that describe stored numbers and are not carried over to values."""


@dataclass(frozen=True)
class Decoding:
    """How stored numbers become values.

    Parameters
    ----------
    stored : dtype
        Type in the file.
    target : dtype
        Type of the values.
    missing : tuple of numbers
        Stored numbers that mean a missing value.
    lowest, highest : number or None
        Stored numbers beyond these mean a missing value.
    packing : Packing or None
    """

    stored: np.dtype[Any]
    target: np.dtype[Any]
    missing: tuple[Any, ...] = ()
    lowest: Any = None
    highest: Any = None
    packing: Packing | None = None

    @classmethod
    def of(cls, stored: np.dtype[Any], attributes: Mapping[str, Any], *, usual_fill: bool = True) -> Self:
        """Read the decoding off a variable's type and attributes.

        `usual_fill` says whether numbers that the NetCDF library fills with are missing values
        where the attributes name none.
        """
        if stored.kind == "i" and str(attributes.get("_Unsigned", "")).lower() == "true":
            stored = np.dtype(stored.str.replace("i", "u"))
        marks: list[Any] = []
        for key in ("_FillValue", "missing_value"):
            if key in attributes:
                marks.extend(np.atleast_1d(np.asarray(attributes[key])))
        if usual_fill and "_FillValue" not in attributes and stored.itemsize > 1 and stored.kind in "fiu":
            marks.append(netCDF4.default_fillvals[stored.str[1:]])
        missing = tuple(value for value in (_as_stored(mark, stored) for mark in marks) if value is not None)
        low, high = attributes.get("valid_min"), attributes.get("valid_max")
        if np.size(attributes.get("valid_range", ())) == 2:
            low, high = attributes["valid_range"]
        packing, target = None, stored.newbyteorder("=")
        if "scale_factor" in attributes or "add_offset" in attributes:
            scale = np.asarray(attributes.get("scale_factor", 1.0)).reshape(-1)[0]
            offset = np.asarray(attributes.get("add_offset", 0.0)).reshape(-1)[0]
            target = np.result_type(scale, offset, np.float32)
            packing = Packing(stored.newbyteorder("=").name, float(scale), float(offset))
        return cls(stored, target, missing, low, high, packing)

    def decode(self, raw: Array) -> Array:
        """Return values for stored numbers: floats with NaN where missing, integers as they are."""
        raw = raw.view(self.stored) if raw.dtype.kind == "i" and self.stored.kind == "u" else raw
        if self.target.kind != "f":
            return raw.astype(self.target, copy=False)
        gaps = self._gaps(raw)
        values = raw.astype(self.target, copy=not raw.flags.writeable)
        if self.packing is not None:
            values *= self.target.type(self.packing.scale)
            values += self.target.type(self.packing.offset)
        for gap in gaps:
            values[gap] = np.nan
        return values

    def _gaps(self, raw: Array) -> list[Array]:
        gaps = [raw == mark for mark in self.missing if mark == mark]  # NaN marks are NaN already
        if self.lowest is not None:
            gaps.append(raw < self.lowest)
        if self.highest is not None:
            gaps.append(raw > self.highest)
        return [gap for gap in gaps if gap.any()]


def _as_stored(mark: Any, stored: np.dtype[Any]) -> Any:
    """Return a fill value in the stored type; None where that type cannot hold it."""
    try:
        with np.errstate(all="ignore"):
            value = np.asarray(mark).astype(stored.newbyteorder("="))[()]
            return value if value == mark or mark != mark or stored.kind == "f" or stored.kind == "u" else None
    except (TypeError, ValueError):
        return None


def decoded_variable(
    name: str,
    dimensions: tuple[str, ...],
    attributes: Mapping[str, Any],
    decoding: Decoding,
    lazy: Callable[[Decoding], LazyArray],
    *,
    chunks: tuple[int, ...] | None,
    filters: tuple[str, ...],
) -> Variable:
    """Return a variable whose stored numbers are decoded when they are read.

    Parameters
    ----------
    attributes : mapping
        All that the file has.
    lazy : callable
        Makes the array, given the decoding.
    chunks, filters
        As the variable lies in the file.
    """
    described = {key: value for key, value in attributes.items() if key not in STORAGE_ATTRIBUTES}
    storage = Storage(
        dtype=_written_as(decoding),
        fill_value=attributes.get("_FillValue"),
        chunks=chunks,
        filters=filters,
        packing=decoding.packing,
        limits={key: attributes[key] for key in _LIMITS if key in attributes},
    )
    missing = int(decoding.missing[0]) if decoding.missing and decoding.target.kind in "iu" else None
    return Variable(name, dimensions, lazy(decoding), described, storage, missing)


def _written_as(decoding: Decoding) -> str | None:
    """Return the type to write values in where it is not theirs.

    Data unpacked from 16 bits or less need not be written in twice the size of float32, although
    they are calculated in the type CF gives them, as long as float32 tells all of them apart.
    """
    packing = decoding.packing
    if packing is None or decoding.stored.itemsize > 2:
        return None
    largest = abs(packing.offset) + abs(packing.scale) * 2.0 ** (8 * decoding.stored.itemsize)
    return "float32" if 2 * np.spacing(np.float32(largest)) < abs(packing.scale) else None
