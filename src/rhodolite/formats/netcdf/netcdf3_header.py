"""The header of NetCDF-3 files, read to learn where values lie and how long a whole file has to be.

The NetCDF library reads a classic file that was cut short as if zeros followed, so this is checked
before any number is trusted. The layout is that of the NetCDF classic format specification
(variants CDF-1, CDF-2 and CDF-5).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path

_TYPE_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 4, 6: 8, 7: 1, 8: 2, 9: 4, 10: 8, 11: 8}
_DIMENSIONS, _VARIABLES, _ATTRIBUTES = 10, 11, 12
_LONGEST = 1 << 28
"""Bytes of a header; a longer one is not believed."""
_STREAMING = (0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF)


@dataclass(frozen=True)
class Placed:
    """Where the values of a variable lie.

    Parameters
    ----------
    offset : int
        Bytes before the first value.
    steps : tuple of int
        Bytes from one value to the next along each axis.
    shape : tuple of int
    """

    offset: int
    steps: tuple[int, ...]
    shape: tuple[int, ...]


class _Header:
    """Reads the items of a header one after another."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._at = 4
        version = data[3]
        self._count = ">Q" if version == 5 else ">I"
        self._offset = ">I" if version == 1 else ">Q"

    def number(self, form: str | None = None) -> int:
        form = form or self._count
        (value,) = struct.unpack_from(form, self._data, self._at)
        self._at += struct.calcsize(form)
        return int(value)

    def offset(self) -> int:
        return self.number(self._offset)

    def choose(self, lengths: list[int]) -> int:
        """Return the length to which a number points."""
        at = self.number()
        if at >= len(lengths):
            raise ValueError("the header is damaged")
        return lengths[at]

    def text(self) -> str:
        length = self.number()
        content = self._data[self._at : self._at + length]
        if len(content) < length:
            raise struct.error
        self._at += _pad(length)
        return content.decode("utf-8", "replace")

    def skip_attributes(self) -> None:
        for _ in range(self.items(_ATTRIBUTES)):
            self.text()
            size = _TYPE_SIZES[self.number(">I")]
            length = size * self.number()
            self._at += _pad(length)

    def items(self, tag: int) -> int:
        """Return the number of items of a list, past its tag."""
        marker, count = self.number(">I"), self.number()
        if marker != tag and (marker or count):
            raise ValueError("the header is damaged")
        return count


def is_classic(path: Path) -> bool:
    """Whether a file begins as NetCDF-3 files do."""
    try:
        with path.open("rb") as file:
            return file.read(4) in (b"CDF\x01", b"CDF\x02", b"CDF\x05")
    except OSError:
        return False  # whoever opens it says why it cannot be read


def needed_size(path: Path) -> int:
    """Return the minimum number of bytes that a NetCDF-3 file needs to hold all its values.

    Raises
    ------
    ValueError
        If the header itself is cut short or damaged.
    """
    ends = [
        placed.offset
        + sum(
            (n - 1) * step for n, step in zip(placed.shape, placed.steps, strict=True)
        )
        + size
        for placed, size in _contents(path).values()
        if all(placed.shape)
    ]
    return max(ends, default=0)


def find_values(path: Path) -> dict[str, Placed]:
    """Return where the values of each variable of a NetCDF-3 file lie.

    Raises
    ------
    ValueError
        If the header is cut short or damaged.
    """
    return {name: placed for name, (placed, _) in _contents(path).items()}


def _contents(path: Path) -> dict[str, tuple[Placed, int]]:
    with path.open("rb") as file:
        data = file.read(1 << 16)
        while True:
            try:
                return _place_values(_Header(data))
            except OverflowError:
                raise ValueError("the header is damaged") from None
            except (struct.error, KeyError):
                more = file.read(len(data))
                if not more or len(data) > _LONGEST:
                    raise ValueError("the header is cut short or damaged") from None
                data += more


def _place_values(header: _Header) -> dict[str, tuple[Placed, int]]:
    """Return the place of each variable with the size of its numbers."""
    records = header.number()
    records = 0 if records in _STREAMING else records
    lengths = []
    for _ in range(header.items(_DIMENSIONS)):
        header.text()
        lengths.append(header.number())
    header.skip_attributes()
    fixed: dict[str, tuple[Placed, int]] = {}
    growing: dict[str, tuple[int, list[int], int]] = {}
    order = []
    for _ in range(header.items(_VARIABLES)):
        name = header.text()
        order.append(name)
        shape = [header.choose(lengths) for _ in range(header.number())]
        header.skip_attributes()
        size = _TYPE_SIZES[header.number(">I")]
        header.number()  # vsize, which overflows for large variables
        begin = header.offset()
        if shape and shape[0] == 0:
            growing[name] = begin, shape[1:], size
        else:
            fixed[name] = Placed(begin, _steps(shape, size), tuple(shape)), size
    # A single record variable is not padded (the specification's special case).
    sizes = [_volume(shape) * size for _, shape, size in growing.values()]
    step = sizes[0] if len(sizes) == 1 else sum(_pad(size) for size in sizes)
    for name, (begin, shape, size) in growing.items():
        fixed[name] = (
            Placed(begin, (step, *_steps(shape, size)), (records, *shape)),
            size,
        )
    return {name: fixed[name] for name in order}


def _steps(shape: list[int], size: int) -> tuple[int, ...]:
    return tuple(_volume(shape[axis + 1 :]) * size for axis in range(len(shape)))


def _volume(shape: list[int]) -> int:
    volume = 1
    for length in shape:
        volume *= length
    return volume


def _pad(size: int) -> int:
    return -(-size // 4) * 4
