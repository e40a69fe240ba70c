"""Feeds bytes to the parsers written here, guided by what code they reach, on demand.

    pip install atheris
    python tests/fuzz/parsers.py formula -max_total_time=60

Every parser returns, or raises an error that says what is wrong; anything else is a find. In the
suite the same parsers get bytes without a guide.
"""

from __future__ import annotations

import re
import sys
import tempfile
import warnings
from collections.abc import Callable
from pathlib import Path

import numpy as np

_FOLDER = Path(tempfile.mkdtemp(prefix="fuzz-"))


def parse_classic_header(data: bytes) -> None:
    """Tell where the values of a NetCDF-3 file lie."""
    from rhodolite.formats.netcdf.netcdf3_header import find_values, needed_size

    path = _write(
        "a.nc", b"CDF" + bytes([(1, 2, 5)[data[0] % 3] if data else 1]) + data
    )
    needed_size(path)
    find_values(path)


def parse_text_grid(data: bytes) -> None:
    """Read a text grid with a header that is right, and one that is made of the data."""
    from rhodolite.formats.text.ascii_grid.reader import read

    header = b"ncols 2\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n"
    for content in (data, header + data):
        dataset = read(_write("a.asc", content))
        dataset.variables["a"].values()


def parse_table(data: bytes) -> None:
    """Read a table as a dataset."""
    from rhodolite.formats.text.csv.reader import read

    read(_write("a.csv", b"date,tas\n" + data))


def decode_chunk(data: bytes) -> None:
    """Take the filters off a chunk."""
    from rhodolite.formats.netcdf.hdf5_filters import ChunkCodec

    orders = (
        ("shuffle", "deflate"),
        ("deflate",),
        ("zstd",),
        ("deflate", "fletcher32"),
        (),
    )
    filters = orders[data[0] % len(orders)] if data else ()
    ChunkCodec(np.dtype("i2"), (4, 3), filters).decode(data[1:], 0)


def decode_numbers(data: bytes) -> None:
    """Decode stored numbers by attributes that the data choose."""
    from rhodolite.formats.cf.check_attributes import check_attributes
    from rhodolite.formats.cf.decode import Decoding

    names = (
        "_FillValue",
        "missing_value",
        "valid_range",
        "scale_factor",
        "_Unsigned",
        "add_offset",
    )
    stored = np.dtype(
        ("i1", "u1", "i2", "i4", "f4", "f8", "i8")[data[0] % 7 if data else 0]
    )
    attributes: dict[str, object] = {}
    for name, piece in zip(
        names, re.findall(rb".{9}", data[1:55], re.DOTALL), strict=False
    ):
        kind, rest = piece[0], piece[1:]
        made: tuple[object, ...] = (
            np.frombuffer(rest, "f8")[0],
            np.frombuffer(rest, "i2"),
            np.frombuffer(rest, "i4")[0],
            rest.decode("latin-1"),
            np.frombuffer(rest, stored)[0],
        )
        attributes[name] = made[kind % len(made)]
    checked = check_attributes("a.nc", "tas", attributes)
    raw = np.frombuffer(data[: len(data) // stored.itemsize * stored.itemsize], stored)
    Decoding.of(stored, checked).decode(raw)


def parse_words(data: bytes) -> None:
    """Read a text as every kind of value that people type."""
    text = data.decode("utf-8", "replace")
    for kind in _typed_values():
        try:
            found = kind.parse(text)
        except ValueError:
            continue
        again = kind.parse(str(found))
        assert str(again) == str(found), (
            f"{kind.__name__}: {text!r} is {found} and then {again}"
        )


def parse_formula(data: bytes) -> None:
    """Read a formula."""
    from rhodolite.operations.expressions.parser import Formula

    Formula.parse(data.decode("utf-8", "replace"))


def parse_date(data: bytes) -> None:
    """Read a date of a table, and units of months."""
    from rhodolite.formats.text.date_forms import day_comes_first
    from rhodolite.formats.text.dates import parse_date
    from rhodolite.model.time.time_units import read_time_units

    text = data.decode("utf-8", "replace")
    day_comes_first([text])
    parse_date(text)
    read_time_units(text, "standard").to_ticks(np.array([0.0, 5.0]))


PARSERS: dict[str, Callable[[bytes], None]] = {
    "classic-header": parse_classic_header,
    "text-grid": parse_text_grid,
    "table": parse_table,
    "chunk": decode_chunk,
    "numbers": decode_numbers,
    "words": parse_words,
    "formula": parse_formula,
    "date": parse_date,
}
SEEDS: dict[str, tuple[str, ...]] = {
    "words": (
        "1981..2010",
        "jan-mar",
        "2001-02-03T04:05",
        "60..70,5",
        "p90",
        "djf",
        "850hPa,500hPa",
    ),
    "formula": (
        "tas - 273.15[K]",
        "where(pr > 1[mm/day] and not missing(tas), pr ^ 2, -1e3)",
    ),
    "date": (
        "31.12.1999",
        "1999-12",
        "DJF 2000",
        "months since 2000-01-01",
        "5 Jan 2001",
    ),
    "table": ("2000-01,1.5\n2000-02,-3\n", "2000-01-01,=1\n"),
    "text-grid": (
        "1 2\n3 -9999\n",
        "NCOLS 2\nNROWS 1\nXLLCENTER 1\nYLLCENTER 1\nCELLSIZE 2\n1 2\n",
    ),
}


def feed(name: str, data: bytes) -> None:
    """Give bytes to a parser, and let clear errors pass."""
    from rhodolite.errors import RhodoliteError
    from rhodolite.formats.netcdf.hdf5_filters import CorruptChunk

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            PARSERS[name](data)
    except (RhodoliteError, CorruptChunk, ValueError) as error:
        assert str(error), f"{type(error).__name__} without a word"
        assert not isinstance(error, UnicodeError), error


def _write(name: str, content: bytes) -> Path:
    path = _FOLDER / name
    path.write_bytes(content)
    return path


def _typed_values() -> list[type]:
    """Return all kinds of values that are read from one text."""
    import rhodolite.drawing.options  # noqa: F401
    from rhodolite.model.typed_value import TypedValue
    from rhodolite.operations import all_operations

    all_operations()  # imports the kinds that their parameters have

    found, left = [], list(TypedValue.__subclasses__())
    while left:
        kind = left.pop()
        left += kind.__subclasses__()
        if not kind.__abstractmethods__ and not kind.repeats:
            found.append(kind)
    return sorted(found, key=lambda kind: kind.__name__)


def main() -> None:
    """Run the guided fuzzer on one parser until it finds something or its time is over."""
    import atheris

    name = sys.argv.pop(1)
    with atheris.instrument_imports(include=["rhodolite"]):
        _typed_values()
        for data in (b"", *(text.encode() for text in SEEDS.get(name, ()))):
            feed(name, data)
    seeds = _FOLDER / "seeds"
    seeds.mkdir()
    for at, text in enumerate(SEEDS.get(name, ())):
        (seeds / str(at)).write_text(text)
    atheris.Setup([*sys.argv, str(seeds)], lambda data: feed(name, data))
    atheris.Fuzz()


if __name__ == "__main__":
    main()
