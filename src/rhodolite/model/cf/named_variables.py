"""Names of variables in the attributes of others: each form of them is read and changed here
(CF 3.4, 4.3.3, 5, 5.6, 7.1, 7.2)."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from typing import Any

from rhodolite.model.cf.vocabulary import (
    ALL_REFERENCES,
    CELL_BOUNDS,
    NAME_LISTS,
    NAMED_PAIRS,
    PLACING,
    REFERENCES,
)
from rhodolite.model.variable import Variable

_MAPPING = "grid_mapping"
_COLON = re.compile(r":(?=\S)")


def spell_names(variable: Variable) -> Variable:
    """Return a variable whose lists of names are spelled as CF has them: with blanks between them
    and after a colon, where others write `lat, lon` and `area:cell_area`."""
    changed = misspelled_in(variable)
    return variable.edit(**changed) if changed else variable


def misspelled_in(variable: Variable) -> dict[str, str]:
    """Return the attributes that name variables in another form than CF has, in that of CF."""
    return {
        key: _text(variable, key)
        for key in (*NAME_LISTS, *NAMED_PAIRS, _MAPPING)
        if isinstance(variable.attributes.get(key), str)
        and _text(variable, key) != variable.attributes[key]
    }


def named_in(variable: Variable, key: str) -> list[str]:
    """Return the variables that an attribute names, in its order.

    Parameters
    ----------
    variable : Variable
    key : str
        Of a list of names, of bounds, of pairs such as ``area: cell_area``, or ``grid_mapping``,
        which can be one name or ``mapping: x y`` for each of several.
    """
    text = _text(variable, key)
    if key in CELL_BOUNDS:
        return [text] if text else []
    words = text.split()
    if key == _MAPPING and ":" in text:
        return [word.rstrip(":") for word in words if word.endswith(":")]
    return [word for word in words if not word.endswith(":")]


def pairs_in(variable: Variable, key: str) -> dict[str, str]:
    """Return what an attribute of pairs names by their terms, such as that of cell areas by
    ``area``."""
    words = _text(variable, key).split()
    return {
        term.rstrip(":"): name
        for term, name in zip(words[::2], words[1::2], strict=False)
    }


def placing_of(variable: Variable) -> dict[str, Any]:
    """Return the attributes that say where values lie: those of all that is computed of them for
    the same cells."""
    return {
        key: variable.attributes[key] for key in PLACING if key in variable.attributes
    }


def mapping_of(variable: Variable) -> str:
    """Return the name of the grid mapping of a variable, the first of several; empty where there
    is none."""
    return next(iter(named_in(variable, _MAPPING)), "")


def lost_in(variable: Variable, key: str, names: Collection[str]) -> list[str]:
    """Return the variables that an attribute names and that are not among the names that there
    are."""
    if _text(variable, key) in names:  # A name of several words.
        return []
    return [word for word in named_in(variable, key) if word not in names]


def astray_in(
    variable: Variable, key: str, variables: Mapping[str, Variable]
) -> list[str]:
    """Return the variables that an attribute names and that lie along dimensions which the
    variable does not have (CF 5, 7.2)."""
    along = set(variable.dimensions)
    return [
        name
        for name in named_in(variable, key)
        if name in variables and not along.issuperset(variables[name].dimensions)
    ]


def drop_astray(variable: Variable, variables: Mapping[str, Variable]) -> Variable:
    """Return a variable without coordinates and areas of cells along dimensions that it does not
    have, as one of fewer has them."""
    for key in ("coordinates", "cell_measures"):
        astray = astray_in(variable, key, variables)
        if astray and key == "coordinates":
            variable = keep_named(variable, variables.keys() - set(astray))
        elif astray:
            variable = variable.edit(key)
    return variable


def keep_named(variable: Variable, names: Collection[str]) -> Variable:
    """Return a variable that refers only to variables that there are."""
    for key in REFERENCES:
        if not lost_in(variable, key, names):
            continue
        remaining = " ".join(_remaining(variable, key, names))
        variable = variable.edit(key)
        if remaining:
            variable = variable.edit(**{key: remaining})
    return variable


def rename_in(
    attributes: Mapping[str, Any], names: Mapping[str, str]
) -> dict[str, Any]:
    """Return attributes in which those that name variables and dimensions have new names.

    Parameters
    ----------
    attributes : mapping of str to object
    names : mapping of str to str
        New names by the old ones; all change at once.
    """
    if not names:
        return dict(attributes)
    listed = "|".join(re.escape(name) for name in sorted(names, key=len, reverse=True))
    word = re.compile(rf"(?<![\w.-])(?:{listed})(?![\w.-])")
    changed = dict(attributes)
    for key in ALL_REFERENCES:
        if isinstance(changed.get(key), str):
            changed[key] = word.sub(lambda match: names[match[0]], changed[key])
    return changed


def _text(variable: Variable, key: str) -> str:
    """Return the text of an attribute as CF spells it."""
    text = str(variable.attributes.get(key, "")).strip()
    if key in NAME_LISTS:
        return " ".join(text.replace(",", " ").split())
    return _COLON.sub(": ", text)


def _remaining(variable: Variable, key: str, names: Collection[str]) -> list[str]:
    if key != _MAPPING:
        return [word for word in named_in(variable, key) if word in names]
    # A mapping stays with the coordinates that it is of.
    groups = re.findall(r"(\S+):((?:\s+[^\s:]+(?=\s|$))*)", _text(variable, key))
    return [f"{name}:{rest}" for name, rest in groups if name in names]
