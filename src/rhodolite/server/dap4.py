"""DAP 4.0: metadata responses and data responses (OPeNDAP, DAP4 Specification, volume 1).

Unlike the second version it has all types of NetCDF-4, and a checksum after each variable.
"""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from rhodolite.model.variable import Variable
from rhodolite.plain_text import allowed_in_xml, shorten_number
from rhodolite.server.index_ranges import slices_named
from rhodolite.server.limits import Refused
from rhodolite.server.served import Served, Slices, whole

MEDIA = {
    "dmr": "application/vnd.opendap.dap4.dataset-metadata+xml",
    "dap": "application/vnd.opendap.dap4.data",
    "error": "application/vnd.opendap.dap4.error+xml",
}
_NAMESPACE = "http://xml.opendap.org/ns/DAP/4.0#"
_TYPES = {
    "i1": "Int8",
    "u1": "UInt8",
    "i2": "Int16",
    "u2": "UInt16",
    "i4": "Int32",
    "u4": "UInt32",
    "i8": "Int64",
    "u8": "UInt64",
    "f4": "Float32",
    "f8": "Float64",
}
_WIDER = {"b1": "i1", "f2": "f4"}
"""Types that the protocol has not, and what they are sent as."""
_CLAUSE = re.compile(r"/?((?:[^\[\]\\]|\\.)+)((?:\[[^\[\]]*\])*)")
_LONGEST = 8000
_LAST, _LITTLE_ENDIAN, _NO_CHECKSUM = 1, 4, 8
_CHUNK = (1 << 24) - 1
"""The longest piece of an answer, whose length has three bytes."""


@dataclass(frozen=True)
class Chosen:
    """A variable and the slices of it that are asked for."""

    variable: Variable
    slices: Slices

    @property
    def shape(self) -> tuple[int, ...]:
        return tuple(
            len(range(part.start, part.stop, part.step)) for part in self.slices
        )


def parse_constraint(served: Served, text: str) -> list[Chosen]:
    """Return what a constraint expression asks for, in the order of the dataset; everything where
    it is empty.

    Parameters
    ----------
    served : Served
    text : str
        Such as ``/tas[0:10][5][0:2:20];/time``.

    Raises
    ------
    Refused
        If it is not understood, or names what is not there.
    """
    if len(text) > _LONGEST:
        raise Refused(400, "the constraint expression is too long")
    if not text:
        return [Chosen(v, whole(v)) for v in served.variables.values()]
    asked: dict[str, Chosen] = {}
    for clause in text.split(";"):
        name, ranges = _divide(served, clause.strip())
        variable = served.variable(name)
        chosen = Chosen(variable, slices_named(variable, ranges))
        if asked.setdefault(name, chosen).slices != chosen.slices:
            raise Refused(400, f"{name} is asked for twice, with different ranges")
    return [asked[name] for name in served.variables if name in asked]


def _divide(served: Served, clause: str) -> tuple[str, str]:
    """Return the name and the ranges of a clause; clients do not mark brackets in a name."""
    if clause.removeprefix("/") in served.variables:
        return clause.removeprefix("/"), ""
    match = _CLAUSE.fullmatch(clause)
    if match is None:
        raise Refused(
            400, f"'{clause}' is not a variable with ranges such as /tas[0:10]"
        )
    return re.sub(r"\\(.)", r"\1", match.group(1)), match.group(2)


def write_metadata(served: Served, chosen: list[Chosen]) -> str:
    """Return the description of variables and attributes as XML."""
    sizes = {
        name: size
        for choice in chosen
        for name, size in zip(
            choice.variable.dimensions, choice.variable.shape, strict=True
        )
    }
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<Dataset xmlns="{_NAMESPACE}" dapVersion="4.0" dmrVersion="1.0" '
        f"name={quoteattr(served.name)}>",
    ]
    lines += [
        f'  <Dimension name={quoteattr(name)} size="{size}"/>'
        for name, size in sizes.items()
    ]
    fields = {variable.name for variable in served.dataset.fields}
    for choice in chosen:
        lines += _describe(choice, choice.variable.name in fields)
    lines += _describe_attributes(dict(served.dataset.attributes), "  ")
    return "\n".join([*lines, "</Dataset>", ""])


def _describe(choice: Chosen, is_field: bool) -> list[str]:
    variable = choice.variable
    kind = _type_name(variable.data.dtype)
    lines = [f"  <{kind} name={quoteattr(variable.name)}>"]
    for name, size, length in zip(
        variable.dimensions, variable.shape, choice.shape, strict=True
    ):
        # A part of a dimension is none that others share.
        extent = f'size="{length}"'
        if length == size:
            extent = f"name={quoteattr('/' + _escape_name(name))}"
        lines.append(f"    <Dim {extent}/>")
    lines += _describe_attributes(_attributes(variable, is_field), "    ")
    return [*lines, f"  </{kind}>"]


def _attributes(variable: Variable, is_field: bool) -> dict[str, Any]:
    dtype = variable.data.dtype
    attributes = dict(variable.attributes)
    if variable.missing is not None and dtype.kind in "iu":
        attributes["_FillValue"] = dtype.type(variable.missing)
    elif is_field and dtype.kind == "f":
        attributes["_FillValue"] = np.dtype(_sent_as(dtype)).type(np.nan)
    return attributes


def _describe_attributes(attributes: dict[str, Any], indent: str) -> list[str]:
    lines = []
    for name, value in attributes.items():
        values = np.atleast_1d(np.asarray(value)).reshape(-1)
        kind = _type_name(values.dtype)
        lines.append(f'{indent}<Attribute name={quoteattr(name)} type="{kind}">')
        for item in values:
            text = allowed_in_xml(_write_value(item))
            lines.append(f"{indent}  <Value>{escape(text)}</Value>")
        lines.append(f"{indent}</Attribute>")
    return lines


def _write_value(value: Any) -> str:
    if isinstance(value, (np.integer, np.bool_)):
        return str(int(value))
    if isinstance(value, np.floating):
        return repr(shorten_number(value))
    return str(value)


def _type_name(dtype: np.dtype[Any]) -> str:
    return _TYPES[_sent_as(dtype)] if dtype.kind in "fiub" else "String"


def _sent_as(dtype: np.dtype[Any]) -> str:
    key = f"{dtype.kind}{dtype.itemsize}"
    return _WIDER.get(key, key)


def _escape_name(name: str) -> str:
    """Return a name as it stands in a path of names."""
    return re.sub(r"([/.\\])", r"\\\1", name)


def write_data(
    served: Served, chosen: list[Chosen], *, checksums: bool = True
) -> Iterator[bytes]:
    """Yield the description and the values after it, in chunks.

    Parameters
    ----------
    served : Served
    chosen : list of Chosen
    checksums : bool
        Whether the CRC-32 of each variable follows it.
    """
    flags = _LITTLE_ENDIAN if checksums else _LITTLE_ENDIAN | _NO_CHECKSUM
    description = write_metadata(served, chosen).replace("\n", "\r\n").encode()
    yield _chunk(description, flags)
    for choice in chosen:
        checksum = 0
        for piece in _values(served, choice):
            checksum = zlib.crc32(piece, checksum)
            for start in range(0, len(piece), _CHUNK):
                yield _chunk(piece[start : start + _CHUNK], flags)
        if checksums:
            yield _chunk(struct.pack("<I", checksum), flags)
    yield _chunk(b"", flags | _LAST)


def _chunk(content: bytes, flags: int) -> bytes:
    return struct.pack(">I", flags << 24 | len(content)) + content


def _values(served: Served, choice: Chosen) -> Iterator[bytes]:
    dtype = choice.variable.data.dtype
    for piece in served.stream(choice.variable.data, choice.slices):
        if dtype.kind in "fiub":
            plain = np.dtype(_sent_as(dtype)).newbyteorder("<")
            yield np.ascontiguousarray(piece, plain).tobytes()
        else:
            texts = [str(item).encode() for item in piece.reshape(-1)]
            yield b"".join(struct.pack("<Q", len(text)) + text for text in texts)


def write_error(status: int, message: str) -> str:
    """Return an error as the protocol has it."""
    text = escape(allowed_in_xml(message))
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<Error xmlns="{_NAMESPACE}" httpcode="{status}">\n'
        f"  <Message>{text}</Message>\n</Error>\n"
    )
