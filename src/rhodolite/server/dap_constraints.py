"""Constraint expressions of DAP 2.0: what a request asks of which variables, by names as it has
them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from rhodolite.model.variable import Variable
from rhodolite.server.index_ranges import slices_named
from rhodolite.server.limits import Refused
from rhodolite.server.served import Served, Slices, whole

_PART = re.compile(r"([^\[\],]+)((?:\[[^\[\]]*\])*)")
_LONGEST = 8000
_UNSAFE = re.compile(r"[^A-Za-z0-9_~!*'\-]")


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


def encode_name(name: str) -> str:
    """Return a name with all letters that the protocol uses itself written as %XX, a dot among
    them; clients take no name that begins with such a letter."""
    encoded = _UNSAFE.sub(
        lambda match: "".join(f"%{byte:02X}" for byte in match.group().encode()), name
    )
    return f"_{encoded}" if encoded.startswith("%") else encoded
