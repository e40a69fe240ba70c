"""The text in which files of HDF-EOS5 describe themselves, and what fields are called by it."""

from __future__ import annotations

import re
from typing import Any

from rhodolite.model.variable import Variable

_INFORMATION, _TEXT = "HDFEOS INFORMATION", "StructMetadata.0"
_OLD_NAMES = {"Units": "units", "Title": "long_name", "LongName": "long_name"}
Names = dict[str, tuple[str, ...]]
"""Of the dimensions of each field."""


def group_at(file: Any, path: str) -> Any:
    """Return a group of an open file; None where there is none."""
    place = file
    for name in path.strip("/").split("/"):
        place = place.groups.get(name)
        if place is None:
            return None
    return place


def only_child(file: Any, path: str) -> str | None:
    """Return the name of the one group in another; None where there is none, or several."""
    parent = group_at(file, path)
    if parent is None or len(parent.groups) != 1:
        return None
    return str(next(iter(parent.groups)))


def parts_of(file: Any, structure: str, part: str) -> list[str]:
    """Return what the text says of each grid or swath.

    Parameters
    ----------
    file : netCDF4.Dataset
    structure : {"GridStructure", "SwathStructure"}
    part : {"GRID", "SWATH"}
    """
    information = group_at(file, _INFORMATION)
    if information is None or _TEXT not in information.variables:
        return []
    text = str(information.variables[_TEXT][...])
    whole = text.partition(f"GROUP={structure}")[2]
    return re.split(rf"GROUP={part}_\d+", whole.partition(f"END_GROUP={structure}")[0])[
        1::2
    ]


def settings_of(part: str) -> dict[str, str]:
    """Return what stands before the groups of a part, by its names."""
    return dict(re.findall(r"^\s*(\w+)=(.*?)\s*$", part.partition("GROUP=")[0], re.M))


def dimensions_of(part: str, kind: str) -> Names:
    """Return the names of the dimensions of each field of a kind, such as `DataField`."""
    fields = re.findall(rf'{kind}Name="([^"]*)".*?DimList=\(([^)]*)\)', part, re.S)
    return {
        name: tuple(word.strip().strip('"') for word in words.split(","))
        for name, words in fields
    }


def name_field(variable: Variable, names: Names) -> Variable:
    """Return a field with the names of its dimensions, and attributes under their usual names."""
    own = names.get(variable.name, variable.dimensions)
    if len(own) == len(variable.dimensions):
        variable = variable.replace(dimensions=own)
    usual = {
        _OLD_NAMES[key]: value
        for key, value in variable.attributes.items()
        if key in _OLD_NAMES and _OLD_NAMES[key] not in variable.attributes
    }
    return variable.edit(**usual)
