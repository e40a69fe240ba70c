"""Where the fields of a GRIB file lie: its messages, and their sections."""

from __future__ import annotations

import hashlib
import mmap
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from rhodolite.errors import DataError

_BEGIN, _END = b"GRIB", b"7777"
_INDICATOR_BYTES = {1: 8, 2: 16}
_LARGE_MARK = 0x800000
"""Of a message of edition 1 whose length is counted in units of 120 bytes."""
_LARGE_UNIT = 120
_IDENTIFICATION, _LOCAL, _GRID, _PRODUCT, _PACKING, _BITMAP, _DATA = range(1, 8)
_BITMAP_BEFORE, _NO_BITMAP = 254, 255
"""Codes of section 6: the bitmap that was given before in the message, and none."""

_TIMES_OF_EDITION_1 = ((12, 17), (18, 20), (24, 25))
"""Bytes of section 1: date and hour, both periods, and the century."""
_REFERENCE_TIME = (12, 19)
_FORECAST_TIME = (18, 22)
_FIRST_OF_OTHER_KINDS = 16
"""Template of section 4 from which on the forecast time may be elsewhere."""
_ENDS_OF_INTERVALS = {8: 34, 10: 35, 11: 37, 12: 36}
"""By the template of section 4: its byte at which the date begins when an interval ends."""

Span = tuple[int, int]
"""First byte in the file, and number of bytes."""
_Section = tuple[int, int, int]
"""Number of a section, its first byte in the file, and its bytes."""


@dataclass(frozen=True)
class Field:
    """One field: the parts of the file that are a message of it alone, put together.

    Parameters
    ----------
    spans : tuple of (int, int)
        In order. One where the message holds no other field.
    data : int
        In which of the bytes put together section 5 ends, or 0 in edition 1: up to there a message
        describes its field.
    """

    spans: tuple[Span, ...]
    description: int = 0

    @property
    def is_part(self) -> bool:
        """Whether the message holds other fields as well."""
        return len(self.spans) > 1


def find_fields(path: Path) -> list[Field]:
    """Return the fields of a file, in its order. What lies between messages is passed over.

    Raises
    ------
    DataError
        If a message ends too early, is of an edition that does not exist, or its sections do not
        fit into it.
    """
    fields: list[Field] = []
    with (
        path.open("rb") as file,
        mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as content,
    ):
        at = content.find(_BEGIN)
        while at >= 0:
            edition, length = _measure_message(content, at, path)
            if edition == 1:
                fields.append(Field(((at, length),)))
            else:
                fields += _split_message(content, at, length, path)
            at = content.find(_BEGIN, at + length)
    return fields


def _measure_message(content: mmap.mmap, at: int, path: Path) -> tuple[int, int]:
    """Return the edition of a message and its bytes."""
    start = content[at : at + 16]
    if len(start) < 16:
        raise DataError(f"{path}: the file ends within a message, at byte {at:,}")
    edition = start[7]
    if edition not in _INDICATOR_BYTES:
        raise DataError(
            f"{path}: the message at byte {at:,} is of edition {edition}; editions 1 and 2 are read"
        )
    length = _length_of_edition_1(content, at)
    if edition == 2:
        length = struct.unpack(">Q", start[8:16])[0]
    ending = content[at + length - len(_END) : at + length]
    if ending != _END:
        missing = at + length - len(content)
        why = "it is damaged"
        if missing > 0:
            why = (
                f"{missing:,} bytes of it are missing; copy or download the file again"
            )
        raise DataError(
            f"{path}: the message at byte {at:,} does not end where it says; {why}"
        )
    return edition, length


def _length_of_edition_1(content: mmap.mmap, at: int) -> int:
    length = int.from_bytes(content[at + 4 : at + 7], "big")
    if not length & _LARGE_MARK:
        return length
    # The length of the last section then says how many bytes the whole units are too many.
    whole = (length & ~_LARGE_MARK) * _LARGE_UNIT
    data = at + _INDICATOR_BYTES[1]
    flags = content[data + 7]
    for present in (0xFF, flags & 0x80, flags & 0x40):
        if present:
            data += int.from_bytes(content[data : data + 3], "big")
    surplus = int.from_bytes(content[data : data + 3], "big")
    if surplus >= _LARGE_UNIT:
        return length
    return whole - surplus + len(_END)


def _split_message(
    content: mmap.mmap, at: int, length: int, path: Path
) -> Iterator[Field]:
    """Yield the fields of a message of edition 2, of which each ends with a section of data."""
    current: dict[int, _Section] = {}
    bitmap: _Section | None = None
    fields: list[tuple[dict[int, _Section], _Section | None]] = []
    for section in _sections(content, at, length, path):
        number, start, _ = section
        current[number] = section
        if number == _BITMAP and content[start + 5] not in (_BITMAP_BEFORE, _NO_BITMAP):
            bitmap = section
        if number == _DATA:
            missing = set(range(_GRID, _DATA)) - current.keys()
            if missing:
                raise DataError(
                    f"{path}: the message at byte {at:,} has data without section {min(missing)}"
                )
            repeated = content[current[_BITMAP][1] + 5] == _BITMAP_BEFORE
            fields.append((dict(current), bitmap if repeated else current[_BITMAP]))
    for sections, bits in fields:
        packing = sections[_PACKING]
        if len(fields) == 1:
            yield Field(((at, length),), packing[1] + packing[2] - at)
            continue
        if bits is None:
            raise DataError(
                f"{path}: the message at byte {at:,} refers to a bitmap that it does not hold"
            )
        chosen = {**sections, _BITMAP: bits}
        parts = [(at, _INDICATOR_BYTES[2]), *(chosen[n][1:] for n in sorted(chosen))]
        described = sum(size for _, size in parts[:-2])
        yield Field(tuple(parts), described)


def _sections(
    content: mmap.mmap, at: int, length: int, path: Path
) -> Iterator[_Section]:
    start, end = at + _INDICATOR_BYTES[2], at + length - len(_END)
    while start < end:
        size = int.from_bytes(content[start : start + 4], "big")
        if size < 5 or start + size > end:
            raise DataError(
                f"{path}: the sections of the message at byte {at:,} do not fit into it"
            )
        yield content[start + 4], start, size
        start += size


def compose_message(parts: list[bytes]) -> bytes:
    """Return a message of edition 2 of sections that begin with section 0, with its length set
    right and its end added."""
    message = b"".join([*parts, _END])
    return message[:8] + struct.pack(">Q", len(message)) + message[16:]


def compose_description(start: bytes) -> bytes:
    """Return a message without data, of all that lies before sections 6 and 7 of a field: by far
    less to read where only the keys are asked for."""
    no_bitmap = struct.pack(">IBB", 6, _BITMAP, _NO_BITMAP)
    no_data = struct.pack(">IB", 5, _DATA)
    return compose_message([start, no_bitmap, no_data])


def product_of(content: bytes) -> bytes:
    """Return what is alike for messages of one product on one grid: what describes them without
    their times, as a digest.

    Parameters
    ----------
    content : bytes
        A message, of edition 2 with or without its data.
    """
    parts: list[bytes] = []
    if content[7] == 1:
        start = _INDICATOR_BYTES[1]
        product = bytearray(content[start : start + _size_3(content, start)])
        grid_follows = product[7] & 0x80
        for first, last in _TIMES_OF_EDITION_1:
            product[first:last] = bytes(last - first)
        start += len(product)
        parts = [bytes(product)]
        if grid_follows:
            parts.append(content[start : start + _size_3(content, start)])
    else:
        parts = [content[6:7], *_timeless_sections(content)]
    return hashlib.blake2b(b"".join(parts), digest_size=16).digest()


def _size_3(content: bytes, start: int) -> int:
    return int.from_bytes(content[start : start + 3], "big")


def _timeless_sections(content: bytes) -> Iterator[bytes]:
    """Yield sections 1 to 4 of a message of edition 2, with zeros for their times."""
    start = _INDICATOR_BYTES[2]
    while start + 5 < len(content) and content[start + 4] <= _PRODUCT:
        size, number = struct.unpack(">IB", content[start : start + 5])
        section = bytearray(content[start : start + size])
        times = [_REFERENCE_TIME] if number == _IDENTIFICATION else []
        if number == _PRODUCT:
            template = int.from_bytes(section[7:9], "big")
            end = _ENDS_OF_INTERVALS.get(template)
            times = [_FORECAST_TIME] if template < _FIRST_OF_OTHER_KINDS else []
            times += [(end, end + 7)] if end else []
        for first, last in times:
            section[first:last] = bytes(last - first)
        yield bytes(section)
        start += max(size, 5)
