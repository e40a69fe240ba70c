"""DAP 2.0: descriptions, attributes and values of datasets (NASA ESE-RFC-004.1.2)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.variable import Variable
from rhodolite.plain_text import shorten_number
from rhodolite.server.dap_constraints import Projection, encode_name
from rhodolite.server.limits import Refused
from rhodolite.server.served import Served, Slices

_TYPES = {
    "i2": ("Int16", ">i4"),
    "i4": ("Int32", ">i4"),
    "f4": ("Float32", ">f4"),
    "f8": ("Float64", ">f8"),
}
"""What numbers are called, and how they are sent: nothing is shorter than four bytes."""
_WIDER = {"i1": "i2", "b1": "i2", "u1": "i2", "u2": "i4", "u4": "f8"}
_WIDER |= {"f2": "f4", "i8": "f8", "u8": "f8"}
"""Types that the protocol has not, and what they are sent as. It has unsigned ones, but clients
with the types of NetCDF-3 take these for signed ones, so that large numbers come out negative."""
HEADERS = {"XDODS-Server": "dods/3.2"}


def write_dds(served: Served, projections: list[Projection]) -> str:
    """Return the description of the structure."""
    lines = ["Dataset {"]
    for projection in projections:
        name = encode_name(projection.variable.name)
        if not projection.members:
            variable = projection.variable
            lines.append(
                f"    {_declare(variable, variable.dimensions, projection.slices)};"
            )
            continue
        parts = [
            _declare_member(served, projection, member) for member in projection.members
        ]
        if projection.alone:
            lines += ["    Structure {", *(f"        {part};" for part in parts)]
        else:
            lines += [
                "    Grid {",
                "      ARRAY:",
                f"        {parts[0]};",
                "      MAPS:",
            ]
            lines += [f"        {part};" for part in parts[1:]]
        lines.append(f"    }} {name};")
    return "\n".join([*lines, f"}} {encode_name(served.name)};", ""])


def _declare_member(served: Served, projection: Projection, member: str) -> str:
    if member == projection.variable.name:
        return _declare(
            projection.variable, projection.variable.dimensions, projection.slices
        )
    axis = projection.variable.dimensions.index(member)
    return _declare(served.variable(member), (member,), (projection.slices[axis],))


def _declare(variable: Variable, dimensions: tuple[str, ...], slices: Slices) -> str:
    sizes = "".join(
        f"[{encode_name(name)} = {len(range(part.start, part.stop, part.step))}]"
        for name, part in zip(dimensions, slices, strict=True)
    )
    return f"{_type_name(variable.data.dtype)} {encode_name(variable.name)}{sizes}"


def _type_name(dtype: np.dtype[Any]) -> str:
    return "String" if dtype.kind in "OUS" else _TYPES[_sent_as(dtype)][0]


def _sent_as(dtype: np.dtype[Any]) -> str:
    key = f"{dtype.kind}{dtype.itemsize}"
    return _WIDER.get(key, key)


def write_das(served: Served) -> str:
    """Return the attributes of all variables, and of the dataset."""
    lines = ["Attributes {"]
    fields = {variable.name for variable in served.dataset.fields}
    tables = [
        (encode_name(v.name), _attributes(v, v.name in fields))
        for v in served.variables.values()
    ]
    for name, attributes in [*tables, ("NC_GLOBAL", dict(served.dataset.attributes))]:
        lines.append(f"    {name} {{")
        lines += [
            f"        {_attribute(key, value)};" for key, value in attributes.items()
        ]
        lines.append("    }")
    return "\n".join([*lines, "}", ""])


def _attributes(variable: Variable, field: bool) -> dict[str, Any]:
    dtype = variable.data.dtype
    mark = {}
    if variable.missing is not None and dtype.kind in "iu":
        mark["_FillValue"] = np.dtype(_sent_as(dtype)).type(variable.missing)
    elif field and dtype.kind == "f":
        mark["_FillValue"] = dtype.type(np.nan)
    return {**variable.attributes, **mark}


def _attribute(key: str, value: Any) -> str:
    name = encode_name(key)
    values = np.atleast_1d(np.asarray(value))
    if values.dtype.kind not in "fiub":
        return f"String {name} {', '.join(_quote(str(item)) for item in values.reshape(-1))}"
    sent = _sent_as(values.dtype)
    numbers = values.reshape(-1).astype(sent)
    if values.dtype.kind in "iu" and [int(n) for n in numbers] != [
        int(n) for n in values.flat
    ]:
        # Beyond 2^53 none of the types of the protocol has all digits.
        return (
            f"String {name} {', '.join(_quote(str(number)) for number in values.flat)}"
        )
    texts = [_write_number(number) for number in numbers] or ["0"]
    return f"{_TYPES[sent][0]} {name} {', '.join(texts)}"


def _write_number(value: Any) -> str:
    if value.dtype.kind != "f":
        return str(int(value))
    if np.isnan(value):
        return "NaN"
    if np.isinf(value):
        return "-Infinity" if value < 0 else "Infinity"
    return repr(shorten_number(value))


def _quote(text: str) -> str:
    inner = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{inner}"'


def write_data(served: Served, projections: list[Projection]) -> Iterator[bytes]:
    """Yield the description of the structure and the values after it (XDR, RFC 4506)."""
    yield f"{write_dds(served, projections)}\nData:\n".encode()
    for projection in projections:
        for member in projection.members or (projection.variable.name,):
            variable, slices = _member(served, projection, member)
            yield from _encode(served, variable, slices)


def _member(
    served: Served, projection: Projection, member: str
) -> tuple[Variable, Slices]:
    if member == projection.variable.name:
        return projection.variable, projection.slices
    return served.variable(member), (
        projection.slices[projection.variable.dimensions.index(member)],
    )


def _encode(served: Served, variable: Variable, slices: Slices) -> Iterator[bytes]:
    count = 1
    for part in slices:
        count *= len(range(part.start, part.stop, part.step))
    dtype = variable.data.dtype
    text = dtype.kind in "OUS"
    if slices:
        if count >= 1 << 31:
            raise Refused(413, f"{count:,} values are more than the protocol can count")
        # Arrays of numbers have their length twice, by the library that first wrote them.
        yield struct.pack(">I", count) * (1 if text else 2)
    sent = 0
    for piece in served.stream(variable.data, slices):
        if text:
            yield b"".join(_encode_text(str(item)) for item in piece.reshape(-1))
            continue
        plain = _sent_as(dtype)
        data = piece.astype(plain).astype(_TYPES[plain][1]).tobytes()
        sent += len(data)
        yield data
    if not text and sent % 4:
        yield bytes(-sent % 4)


def _encode_text(text: str) -> bytes:
    data = text.encode()
    return struct.pack(">I", len(data)) + data + bytes(-len(data) % 4)


def write_text(served: Served, projections: list[Projection]) -> Iterator[bytes]:
    """Yield values as text: a line for each row, with the indices of the others before it."""
    yield write_dds(served, projections).encode()
    yield b"---------------------------------------------\n"
    for projection in projections:
        for member in projection.members or (projection.variable.name,):
            variable, slices = _member(served, projection, member)
            name = encode_name(variable.name)
            if projection.members:
                name = f"{encode_name(projection.variable.name)}.{name}"
            yield from _rows(served, variable, slices, name)


def _rows(
    served: Served, variable: Variable, slices: Slices, name: str
) -> Iterator[bytes]:
    shape = tuple(len(range(part.start, part.stop, part.step)) for part in slices)
    yield (name + "".join(f"[{n}]" for n in shape) + "\n").encode()
    width = shape[-1] if shape else 1
    row = 0
    left: Array = np.empty(0, variable.data.dtype)
    for piece in served.stream(variable.data, slices):
        flat = (
            np.concatenate([left, piece.reshape(-1)])
            if left.size
            else piece.reshape(-1)
        )
        for start in range(0, flat.size // width * width, width):
            place = np.unravel_index(row, shape[:-1]) if len(shape) > 1 else ()
            words = [_write_cell(value) for value in flat[start : start + width]]
            yield (
                "".join(f"[{at}]" for at in place)
                + (", " if place else "")
                + ", ".join(words)
                + "\n"
            ).encode()
            row += 1
        left = flat[flat.size // width * width :]
    yield b"\n"


def _write_cell(value: Any) -> str:
    if isinstance(value, np.generic) and value.dtype.kind in "fiub":
        return _write_number(value)
    return _quote(str(value))


def write_error(status: int, message: str) -> str:
    """Return an error as the protocol has it."""
    return f"Error {{\n    code = {status};\n    message = {_quote(message)};\n}};\n"
