"""The header of NetCDF-3 files, read to learn how long a whole file has to be.

The NetCDF library reads a classic file that was cut short as if zeros followed, so this is checked
before any number is trusted. The layout is that of the NetCDF classic format specification
(variants CDF-1, CDF-2 and CDF-5).
"""

from __future__ import annotations

import struct
from pathlib import Path

_TYPE_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 4, 6: 8, 7: 1, 8: 2, 9: 4, 10: 8, 11: 8}
_STREAMING = (0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF)


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

    def skip_text(self) -> None:
        length = self.number()
        self._at += _padded(length)

    def skip_attributes(self) -> None:
        for _ in range(self.items()):
            self.skip_text()
            size = _TYPE_SIZES[self.number(">I")]
            length = size * self.number()
            self._at += _padded(length)

    def items(self) -> int:
        """Return the number of items of a list, past its tag."""
        self.number(">I")
        return self.number()


def needed_size(path: Path) -> int:
    """Return the least number of bytes that a NetCDF-3 file needs to hold all its values.

    Raises
    ------
    ValueError
        If the header itself is cut short or damaged.
    """
    with path.open("rb") as file:
        data = file.read(1 << 16)
        while True:
            try:
                return _needed(_Header(data))
            except (struct.error, KeyError):
                more = file.read(len(data))
                if not more:
                    raise ValueError("the header is cut short or damaged") from None
                data += more


def _needed(header: _Header) -> int:
    records = header.number()
    lengths = []
    for _ in range(header.items()):
        header.skip_text()
        lengths.append(header.number())
    header.skip_attributes()
    fixed_end, recorded = 0, []
    for _ in range(header.items()):
        header.skip_text()
        shape = [lengths[header.number()] for _ in range(header.number())]
        header.skip_attributes()
        size = _TYPE_SIZES[header.number(">I")]
        header.number()  # vsize, which overflows for large variables
        begin = header.offset()
        grows = bool(shape) and shape[0] == 0
        for length in shape[1:] if grows else shape:
            size *= length
        if grows:
            recorded.append((begin, size))
        else:
            fixed_end = max(fixed_end, begin + size)
    if not recorded or records in (0, *_STREAMING):
        return fixed_end
    # A single record variable is not padded (the specification's special case).
    step = recorded[0][1] if len(recorded) == 1 else sum(_padded(size) for _, size in recorded)
    return max(fixed_end, *(begin + (records - 1) * step + size for begin, size in recorded))


def _padded(size: int) -> int:
    return -(-size // 4) * 4
