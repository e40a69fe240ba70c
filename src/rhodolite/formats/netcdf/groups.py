"""Groups of a NetCDF-4 file: which is read, and what it shares of those around it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rhodolite.errors import DataError, nearest_names, warn


def choose_group(file: Any, path: Path, name: str | None) -> Any:
    """Return the group asked for, or the file itself where its variables are at the top."""
    groups = {group.path: group for group in all_groups(file) if group.variables}
    listed = ", ".join(f"{path}:{place}" for place in groups)
    if name is not None:
        wanted = "/" + name.strip("/")
        if wanted == "/":
            return file
        if wanted not in groups:
            raise DataError(
                f"{path}: no group '{wanted}'. {nearest_names(wanted, groups)}"
            )
        return groups[wanted]
    if not file.variables and not fields_of_groups(file, {}):
        hint = (
            f"its variables are in groups; name one of {listed}"
            if groups
            else "it is empty"
        )
        raise DataError(f"{path}: no variables at the top of the file; {hint}")
    return file


def fields_of_groups(file: Any, variables: dict[str, Any]) -> dict[str, Any]:
    """Return the variables of groups that run along dimensions of the whole file, by their names,
    or with that of their group before it where that is taken; says which groups are left out."""
    fields: dict[str, Any] = {}
    left = []
    for group in all_groups(file):
        inner = _along_the_whole_file(file, group)
        if not file.variables or group.dimensions or len(inner) < len(group.variables):
            left += [group.path] if group.variables else []
            continue
        for name, stored in inner.items():
            taken = name in variables or name in fields
            whole = f"{group.path.strip('/').replace('/', '_')}_{name}"
            fields[whole if taken else name] = stored
    if left and file.variables:
        warn(
            f"groups with axes of their own are left out: {', '.join(left)}; name one as "
            f"FILE:{left[0]}"
        )
    return fields


def _along_the_whole_file(file: Any, group: Any) -> dict[str, Any]:
    """Return the variables of a group all of whose dimensions are those of the file."""
    return {
        name: stored
        for name, stored in group.variables.items()
        if name and stored.dimensions and set(stored.dimensions) <= set(file.dimensions)
    }


def all_groups(group: Any) -> list[Any]:
    """Return the groups within one, at any depth."""
    groups = []
    for inner in group.groups.values():
        groups += [inner, *all_groups(inner)]
    return groups


def up_from(group: Any) -> list[Any]:
    """Return a group and those that it lies in, from the inside out."""
    levels = []
    while group is not None:
        levels.append(group)
        group = group.parent
    return levels


def in_scope_of(group: Any) -> dict[str, Any]:
    """Return a group's variables, and what it shares of the groups around it: coordinates and their
    bounds (CF 2.7)."""
    in_scope = dict(group.variables)
    if in_scope.pop("", None) is not None:
        warn("a variable without a name is left out")
    dimensions = {name for stored in in_scope.values() for name in stored.dimensions}
    for outer in up_from(group)[1:]:
        for name in dimensions & set(outer.variables) - set(in_scope):
            in_scope[name] = outer.variables[name]
            for key in ("bounds", "climatology"):
                helper = getattr(in_scope[name], key, None)
                if isinstance(helper, str) and helper in outer.variables:
                    in_scope.setdefault(helper, outer.variables[helper])
    return in_scope
