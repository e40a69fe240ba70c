"""From stored numbers to values: packing, fill values and valid ranges (CF 2.5.1 and 8.1)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Self

import netCDF4
import numpy as np

from rhodolite.arrays import Array, LazyArray
from rhodolite.model.cf.vocabulary import LIMITS, STORAGE_ATTRIBUTES
from rhodolite.model.variable import Packing, Storage, Variable

_ABOUT_STORED = ("flag_values", "flag_masks", "actual_range")
"""Attributes of the type of the stored numbers that describe values too."""


@dataclass(frozen=True)
class Decoding:
    """How stored numbers become values. One rule for numbers of every type.

    Parameters
    ----------
    stored : dtype
        Type in the file, unsigned where `_Unsigned` says so.
    target : dtype
        Type of the values.
    missing : tuple of numbers
        Stored numbers that mean a missing value; the first stands for all where integers stay
        integers.
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
    def of(
        cls,
        stored: np.dtype[Any],
        attributes: Mapping[str, Any],
        *,
        usual_fill: bool = True,
    ) -> Self:
        """Read the decoding off a variable's type and attributes.

        `usual_fill` says whether numbers that the NetCDF library fills with are missing values
        where the attributes name none.
        """
        stored = _signed_as_said(stored, attributes)
        marks = [
            number
            for key in ("_FillValue", "missing_value")
            for number in _stored_numbers(key, attributes, stored)
        ]
        if (
            usual_fill
            and "_FillValue" not in attributes
            and stored.itemsize > 1
            and stored.kind in "fiu"
        ):
            marks.append(
                stored.newbyteorder("=").type(netCDF4.default_fillvals[stored.str[1:]])
            )
        packing, target = None, stored.newbyteorder("=")
        if "scale_factor" in attributes or "add_offset" in attributes:
            scale = np.asarray(attributes.get("scale_factor", 1.0)).reshape(-1)[0]
            offset = np.asarray(attributes.get("add_offset", 0.0)).reshape(-1)[0]
            # Their types, since older libraries look at the values of scalars.
            target = np.result_type(scale.dtype, offset.dtype, np.float32)
            packing = Packing(
                stored.newbyteorder("=").name, float(scale), float(offset)
            )
        low, high = _limits(attributes, stored, packing)
        if target.kind in "iu" and (low is not None or high is not None):
            marks = _with_a_mark(marks, stored, low, high)
        return cls(stored, target, tuple(marks), low, high, packing)

    def undone(self) -> Self:
        """Return the decoding that leaves stored numbers as they are, but for sign and byte
        order."""
        return type(self)(self.stored, self.stored.newbyteorder("="))

    @property
    def mark(self) -> int | None:
        """The integer that stands for missing values among integer values; None where there is
        none."""
        return (
            int(self.missing[0]) if self.missing and self.target.kind in "iu" else None
        )

    def __call__(self, raw: Array) -> Array:
        return self.decode(raw)

    def decode(self, raw: Array) -> Array:
        """Return values for stored numbers: NaN where floats are missing, `mark` where integers
        are."""
        raw = np.asarray(raw)
        if raw.dtype.kind in "iu" and raw.dtype.kind != self.stored.kind:
            raw = raw.view(raw.dtype.str.replace(raw.dtype.kind, self.stored.kind))
        gaps = self._gaps(raw)
        if self.target.kind != "f":
            if not gaps or self.mark is None:
                return np.asarray(raw.astype(self.target, copy=False))
            values = np.array(raw, dtype=self.target)
            for gap in gaps:
                values[gap] = self.mark
            return values
        values = np.asarray(raw.astype(self.target, copy=not raw.flags.writeable))
        if self.packing is not None:
            values *= self.target.type(self.packing.scale)
            values += self.target.type(self.packing.offset)
        for gap in gaps:
            values[gap] = np.nan
        return values

    @property
    def keeps_order(self) -> bool:
        """See `Unpacking.keeps_order`."""
        scale = 1.0 if self.packing is None else self.packing.scale
        return (
            self.target.kind == "f" and self.stored.kind in "iu" and 0 < scale < np.inf
        )

    def find_missing(self, numbers: Array) -> Array | None:
        """See `Unpacking.find_missing`."""
        gaps = self._gaps(numbers)
        return np.logical_or.reduce(gaps) if gaps else None

    def scale_of(self, numbers: Array) -> float | None:
        """See `Unpacking.scale_of`."""
        exact = self.target == np.dtype("f8") and numbers.dtype.kind in "iu"
        if not exact or self._gaps(numbers):
            return None
        return 1.0 if self.packing is None else self.packing.scale

    def _gaps(self, raw: Array) -> list[Array]:
        """Return where numbers are missing, by each test that finds any."""
        # Two passes over all integers tell which of the tests could find any.
        ends = (raw.min(), raw.max()) if raw.dtype.kind in "iu" and raw.size else None
        gaps = [np.asarray(raw == mark) for mark in self._marks_within(ends)]
        if self.lowest is not None and (ends is None or ends[0] < self.lowest):
            gaps.append(np.asarray(raw < self.lowest))
        if self.highest is not None and (ends is None or ends[1] > self.highest):
            gaps.append(np.asarray(raw > self.highest))
        return [gap for gap in gaps if gap.any()]

    def _marks_within(self, ends: tuple[Any, Any] | None) -> list[Any]:
        """Return the marks of missing values that numbers between two ends can have."""
        # The mark that integers keep needs no change, and NaN is NaN already.
        marks = self.missing if self.target.kind == "f" else self.missing[1:]
        numbers = [mark for mark in marks if not np.isnan(mark)]
        if ends is None:
            return numbers
        return [mark for mark in numbers if ends[0] <= mark <= ends[1]]


def _signed_as_said(
    stored: np.dtype[Any], attributes: Mapping[str, Any]
) -> np.dtype[Any]:
    """Return the type of integers with the sign that `_Unsigned` gives them."""
    said = str(attributes.get("_Unsigned", "")).strip().lower()
    kinds = {"true": ("i", "u"), "false": ("u", "i")}.get(said)
    if kinds is None or stored.kind != kinds[0]:
        return stored
    return np.dtype(stored.str.replace(*kinds))


def reinterpret(value: Any, attributes: Mapping[str, Any]) -> Any:
    """Return an attribute about stored integers with the sign that `_Unsigned` gives these."""
    numbers = np.asarray(value)
    if numbers.dtype.kind not in "iu":
        return value
    signed = _signed_as_said(numbers.dtype, attributes)
    if signed == numbers.dtype:
        return value
    return numbers.view(signed)[() if numbers.ndim else ...]


def _stored_numbers(
    key: str, attributes: Mapping[str, Any], stored: np.dtype[Any]
) -> list[Any]:
    """Return the numbers that an attribute names, in the stored type; those that it cannot hold are
    left out."""
    numbers = np.atleast_1d(
        np.asarray(reinterpret(attributes.get(key, ()), attributes))
    )
    if numbers.dtype.kind in "USO":
        numbers = _numbers_in_text(numbers)
    with np.errstate(all="ignore"):
        cast = numbers.astype(stored.newbyteorder("="))
    return list(cast[cast == numbers] if stored.kind in "iu" else cast)


def _numbers_in_text(words: Array) -> Array:
    """Return numbers that were written as text, as some files have their marks."""
    numbers = []
    for word in words.reshape(-1):
        try:
            numbers.append(float(str(word)))
        except ValueError:
            continue
    return np.array(numbers, dtype=np.float64)


def _limits(
    attributes: Mapping[str, Any], stored: np.dtype[Any], packing: Packing | None
) -> tuple[Any, Any]:
    """Return the minimum and the maximum stored number that is valid; None where there is no limit.

    Limits of packed data are about packed numbers (CF 2.5.1) unless they are of the wider type of
    the unpacked ones (NetCDF User's Guide, appendix A).
    """
    limits = [_as_stored(limit, stored, packing) for limit in _given_limits(attributes)]
    unpacked = [isinstance(bound, float) for bound in limits]
    if packing is not None and packing.scale < 0 and any(unpacked):
        limits.reverse()
        unpacked.reverse()
    # What unpacking and packing again has rounded must not cut off the ends.
    slack = 1e-6 if packing is not None else 0
    low, high = (
        bound + more if inexact and stored.kind in "iu" else bound
        for bound, inexact, more in zip(limits, unpacked, (-slack, slack), strict=True)
    )
    return low, high


def _given_limits(attributes: Mapping[str, Any]) -> list[Array | None]:
    """Return the minimum and the maximum as attributes give them, None where they give none."""
    pair = [
        np.asarray(reinterpret(attributes[key], attributes)).reshape(-1)
        if key in attributes
        else None
        for key in ("valid_min", "valid_max")
    ]
    if np.size(attributes.get("valid_range", ())) == 2:
        both = np.asarray(reinterpret(attributes["valid_range"], attributes))
        pair = list(both.reshape(2, 1))
    return pair


def _as_stored(
    limit: Array | None, stored: np.dtype[Any], packing: Packing | None
) -> Any:
    """Return a limit as a stored number; one of the unpacked type as a float, between stored
    numbers; None where it is none."""
    if limit is None or limit.size != 1 or limit.dtype.kind not in "fiu":
        return None
    number = limit[0]
    if np.isnan(number):
        return None
    unpacked = limit.dtype.kind == "f" and stored.kind in "iu"
    if packing is not None and packing.scale and unpacked:
        return (float(number) - packing.offset) / packing.scale
    return stored.newbyteorder("=").type(number) if stored.kind == "f" else number


def _with_a_mark(
    marks: list[Any], stored: np.dtype[Any], low: Any, high: Any
) -> list[Any]:
    """Return marks of integers with limits, where there may be none yet: a number beyond the limits
    serves."""
    if marks:
        return marks
    plain = stored.newbyteorder("=").type
    ends = np.iinfo(stored)
    if low is not None and ends.min < low:
        return [plain(ends.min)]
    return [plain(ends.max)] if high is not None and ends.max > high else []


def decode_variable(
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
    described = {
        key: reinterpret(value, attributes) if key in _ABOUT_STORED else value
        for key, value in attributes.items()
        if key not in STORAGE_ATTRIBUTES
    }
    storage = Storage(
        dtype=_written_as(decoding),
        fill_value=_fill_value(attributes, decoding),
        chunks=chunks,
        filters=filters,
        packing=decoding.packing,
        limits={
            key: reinterpret(attributes[key], attributes)
            for key in LIMITS
            if key in attributes
        },
    )
    return Variable(name, dimensions, lazy(decoding), described, storage, decoding.mark)


def _fill_value(attributes: Mapping[str, Any], decoding: Decoding) -> Any:
    """Return the number for missing values to write again, where the file names one."""
    if decoding.mark is not None:
        return decoding.mark if {"_FillValue", *LIMITS} & attributes.keys() else None
    return (
        reinterpret(attributes.get("_FillValue"), attributes)
        if "_FillValue" in attributes
        else None
    )


def _written_as(decoding: Decoding) -> str | None:
    """Return the type to write values in where it is not theirs.

    Data unpacked from 16 bits or less need not be written in twice the size of float32, although
    they are calculated in the type CF gives them, as long as float32 tells all of them apart.
    """
    packing = decoding.packing
    if packing is None or decoding.stored.itemsize > 2:
        return None
    largest = abs(packing.offset) + abs(packing.scale) * 2.0 ** (
        8 * decoding.stored.itemsize
    )
    return (
        "float32" if 2 * np.spacing(np.float32(largest)) < abs(packing.scale) else None
    )
