"""DAP 2.0: descriptions, attributes and values of datasets (NASA ESE-RFC-004.1.2)."""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.model.variable import Variable
from rhodolite.plain_text import shorten_number
from rhodolite.server.index_ranges import slices_named
from rhodolite.server.limits import Refused
from rhodolite.server.served import Served, Slices, whole

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
_PART = re.compile(r"([^\[\],]+)((?:\[[^\[\]]*\])*)")
_UNSAFE = re.compile(r"[^A-Za-z0-9_~!*'\-]")
_LONGEST = 8000
HEADERS = {"XDODS-Server": "dods/3.2"}


@dataclass(frozen=True)
class Projection:
    """A variable, or one part of a grid, and the slices that are asked for.

    Parameters
    ----------
    variable : Variable
    slices : tuple of slice
    members : tuple of str
        Of a grid: the array and its maps by name; empty for a plain array.
    alone : bool
        Whether single members of a grid are asked for, which makes a structure.
    """

    variable: Variable
    slices: Slices
    members: tuple[str, ...]
    alone: bool = False


def parse_constraint(served: Served, text: str) -> list[Projection]:
    """Return what a constraint expression asks for; everything where it is empty.

    Parameters
    ----------
    served : Served
    text : str
        Such as ``tas[0:10][5][0:2:20],time``.

    Raises
    ------
    Refused
        If it is not understood, or names what is not there.
    """
    if len(text) > _LONGEST:
        raise Refused(400, "the constraint expression is too long")
    projected, *selections = text.split("&")
    if any(selections):
        raise Refused(
            400, "selections by value are for sequences, and there are none here"
        )
    if not projected:
        return [_projection(served, name, "") for name in served.variables]
    asked: dict[str, list[Projection]] = {}
    for part in projected.split(","):
        match = _PART.fullmatch(part.strip())
        if match is None:
            raise Refused(400, f"'{part}' is not a variable with ranges such as [0:10]")
        projection = _projection(served, match.group(1), match.group(2))
        asked.setdefault(projection.variable.name, []).append(projection)
    # Clients place what comes by the order of the whole description, however they asked.
    return [_joined(asked[name]) for name in served.variables if name in asked]


def _joined(parts: list[Projection]) -> Projection:
    """Return what is asked for of one variable, in several parts or twice, as one."""
    first = next((part for part in parts if not part.alone), parts[0])
    asked = _ranges_asked(parts)
    if not first.alone:
        return first
    slices = list(whole(first.variable))
    for axis, chosen in asked.items():
        slices[axis] = chosen
    members = {member for part in parts for member in part.members}
    order = (first.variable.name, *first.variable.dimensions)
    return replace(
        first,
        slices=tuple(slices),
        members=tuple(name for name in order if name in members),
    )


def _ranges_asked(parts: list[Projection]) -> dict[int, slice]:
    """Return the range of each axis that some parts name.

    Raises
    ------
    Refused
        If two parts ask for different ranges of one.
    """
    asked: dict[int, slice] = {}
    for part in parts:
        for axis in _axes_of(part):
            if asked.setdefault(axis, part.slices[axis]) != part.slices[axis]:
                name = part.variable.name
                raise Refused(
                    400, f"the parts of {name} are asked for with different ranges"
                )
    return asked


def _axes_of(part: Projection) -> Sequence[int]:
    """Return the axes of the variable that a part of it lies along."""
    if not part.alone or part.variable.name in part.members:
        return range(len(part.slices))
    return [part.variable.dimensions.index(name) for name in part.members]


def _projection(served: Served, name: str, ranges: str) -> Projection:
    plain = {
        encode_name(variable_name): variable_name for variable_name in served.variables
    }
    whole_name, _, member = name.partition(".")
    if name in served.variables or name in plain:
        whole_name, member = name, ""
    variable = served.variable(plain.get(whole_name, whole_name))
    maps = _maps(served, variable)
    if not member:
        return Projection(
            variable,
            slices_named(variable, ranges),
            (variable.name, *maps) if maps else (),
        )
    member = plain.get(member, member)
    if not maps or member not in (variable.name, *maps):
        raise Refused(404, f"{served.name} has no variable '{name}'")
    if member == variable.name:
        return Projection(
            variable, slices_named(variable, ranges), (member,), alone=True
        )
    axis = variable.dimensions.index(member)
    slices = list(whole(variable))
    slices[axis] = slices_named(served.variable(member), ranges)[0]
    return Projection(variable, tuple(slices), (member,), alone=True)


def _maps(served: Served, variable: Variable) -> tuple[str, ...]:
    """Return the coordinates of a variable where each dimension has one, so that it is a grid."""
    variables = served.variables
    named = variable.dimensions
    complete = (
        bool(named)
        and len(set(named)) == len(named)
        and all(
            name in variables
            and variables[name].dimensions == (name,)
            and _is_sent(variables[name])
            for name in named
        )
    )
    return named if complete and variable.dimensions != (variable.name,) else ()


def _is_sent(variable: Variable) -> bool:
    return variable.data.dtype.kind in "fiub"


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


def encode_name(name: str) -> str:
    """Return a name with all letters that the protocol uses itself written as %XX, a dot among
    them; clients take no name that begins with such a letter."""
    encoded = _UNSAFE.sub(
        lambda match: "".join(f"%{byte:02X}" for byte in match.group().encode()), name
    )
    return f"_{encoded}" if encoded.startswith("%") else encoded
