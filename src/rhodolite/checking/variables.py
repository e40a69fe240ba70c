"""What variables say of themselves: names, units, standard names, flags, valid ranges."""

from __future__ import annotations

import re
from collections.abc import Iterator

import numpy as np

from rhodolite.checking.finding import Finding, advice, error, warning
from rhodolite.model.axes import find_role
from rhodolite.model.cf.classes import misspelled_classes, spell_classes
from rhodolite.model.cf.standard_names import (
    CANONICAL_UNITS,
    suggest_standard_name,
    well_formed,
)
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.units.differences import Zero, temperature_reading
from rhodolite.model.units.known_units import units_meant
from rhodolite.model.units.udunits import convertible, is_unit
from rhodolite.model.variable import Variable

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]*")


def names(dataset: Dataset) -> Iterator[Finding]:
    """Names begin with a letter and hold letters, digits and underscores (CF 2.3)."""
    for name in dict.fromkeys([*dataset.variables, *dataset.lengths]):
        if not _NAME.fullmatch(name):
            better = re.sub(r"\W+", "_", name).strip("_")
            better = better if better[:1].isalpha() else f"v_{better}"
            yield warning(
                name,
                "the name holds more than letters, digits and underscores, which many programs "
                "refuse",
                "CF 2.3",
                ("--rename", f"{name}={better}"),
            )
    lowered: dict[str, str] = {}
    for name in dataset.variables:
        if name.lower() in lowered:
            yield warning(
                name,
                f"differs from {lowered[name.lower()]} by capitals only",
                "CF 2.3",
                advice=f"rename one of them: --rename {name}=NEW",
            )
        lowered[name.lower()] = name


def units(dataset: Dataset) -> Iterator[Finding]:
    """Units are there and UDUNITS can read them (CF 3.1)."""
    for variable in dataset.variables.values():
        if variable.units is None or variable.units == "":
            if variable in dataset.fields and variable.numeric:
                yield _without_units(variable)
            continue
        meant = units_meant(variable)
        if meant is not None:
            yield error(
                variable.name,
                f"the units '{variable.units}' are not those of UDUNITS; {meant} is meant",
                "CF 3.1",
                ("--set", f"{variable.name}:units={meant}"),
            )
        elif not (counts_from_a_date(variable.units) or is_unit(variable.units)):
            yield error(
                variable.name,
                f"the units '{variable.units}' cannot be read",
                "CF 3.1",
                advice="write them as UDUNITS does, such as 'mm day-1': --set "
                f"'{variable.name}:units=...'",
            )


def differences(dataset: Dataset) -> Iterator[Finding]:
    """Whether temperatures are on their scale or differences is said (CF 3.1.2)."""
    for variable in dataset.fields:
        reading = temperature_reading(variable)
        if reading is None or reading.because in ("", "units_metadata"):
            continue
        name = variable.name
        if reading.zero is Zero.UNCERTAIN:
            yield warning(
                name,
                f"is converted as one on its scale, though its {reading.because} may mean "
                "a difference",
                "CF 3.1.2",
                advice=f"if it is one: --set '{name}:units_metadata=temperature: difference'",
            )
        else:
            yield advice(
                name,
                f"is taken for a difference of temperatures, by its {reading.because}",
                "CF 3.1.2",
                ("--set", f"{name}:units_metadata=temperature: difference"),
            )


def _without_units(variable: Variable) -> Finding:
    known = CANONICAL_UNITS.get(str(variable.attributes.get("standard_name", "")))
    hint = f"; its standard name is measured in {known}" if known else ""
    return warning(
        variable.name,
        f"has no units{hint}",
        "CF 3.1",
        advice=f"say what the numbers are in: --set '{variable.name}:units=...', and 1 for a pure "
        "number",
    )


def standard_names(dataset: Dataset) -> Iterator[Finding]:
    """Quantities are named so that everyone knows them, and measured in units that fit (CF 3.3)."""
    for variable in dataset.variables.values():
        given = variable.attributes.get("standard_name")
        if given is None:
            if variable in dataset.fields and variable.numeric:
                yield from _without_standard_name(variable)
            continue
        text = str(given).strip()
        if not well_formed(text):
            better = re.sub(r"[\s-]+", "_", text.lower())
            yield error(
                variable.name,
                f"'{text}' cannot be a standard name",
                "CF 3.3",
                ("--set", f"{variable.name}:standard_name={better}"),
            )
        canonical = CANONICAL_UNITS.get(text)
        known = variable.units and is_unit(variable.units)
        if canonical and known and not convertible(str(variable.units), canonical):
            yield error(
                variable.name,
                f"the units {variable.units} do not fit the standard name {text}, which is "
                f"measured in {canonical}",
                "CF 3.3",
                advice=_which_is_wrong(variable),
            )


_DERIVED = (
    "departure",
    "without its trend",
    "difference",
    "trend of",
    "change of",
    "index of",
)
"""What is made of a quantity has not its standard name."""


def _which_is_wrong(variable: Variable) -> str:
    return (
        f"correct the one that is wrong: --set '{variable.name}:units=...' or --remove "
        f"{variable.name}:standard_name"
    )


def _without_standard_name(variable: Variable) -> Iterator[Finding]:
    if any(word in variable.quantity for word in _DERIVED):
        return
    likely = suggest_standard_name(variable.name, variable.quantity)
    canonical = CANONICAL_UNITS.get(likely or "")
    if likely and canonical and convertible(variable.units or "", canonical):
        yield warning(
            variable.name,
            "has no standard name",
            "CF 3.3",
            ("--set", f"{variable.name}:standard_name={likely}"),
        )
    elif "long_name" not in variable.attributes:
        yield warning(
            variable.name,
            "has neither standard_name nor long_name, so others must guess what it is",
            "CF 3.2",
            advice=f"--set '{variable.name}:long_name=...'",
        )


def flags(dataset: Dataset) -> Iterator[Finding]:
    """Every flag has its meaning (CF 3.5)."""
    for given in dataset.variables.values():
        for key, spelled in misspelled_classes(given).items():
            text = spelled if isinstance(spelled, str) else " ".join(map(str, spelled))
            yield error(
                given.name,
                f"has '{given.attributes[key]}' as {key}, where CF has '{text}'",
                "CF 3.5",
                ("--set", f"{given.name}:{key}={text}"),
            )
        variable = spell_classes(given)
        values = variable.attributes.get(
            "flag_values", variable.attributes.get("flag_masks")
        )
        meanings = str(variable.attributes.get("flag_meanings", "")).split()
        if values is None and not meanings:
            continue
        count = np.size(values) if values is not None else 0
        if count != len(meanings):
            yield error(
                variable.name,
                f"has {count} flags and {len(meanings)} meanings",
                "CF 3.5",
                advice=f"name one word a flag: --set '{variable.name}:flag_meanings=...'",
            )


def valid_ranges(dataset: Dataset) -> Iterator[Finding]:
    """What stands for missing values lies outside the valid range (CF 2.5.1)."""
    for variable in dataset.variables.values():
        storage = variable.storage
        low, high = storage.valid_range
        for key, mark in (
            ("_FillValue", storage.fill_value),
            ("missing_value", storage.limits.get("missing_value")),
        ):
            if storage.allows(mark):
                yield error(
                    variable.name,
                    f"the {key} {mark} lies within the valid range, so missing values pass for "
                    "data elsewhere",
                    "CF 2.5.1",
                    advice="rewrite it without the limits: rhodolite join FILE -o NEW.nc",
                )
        if (
            low is not None
            and high is not None
            and np.any(np.asarray(low) > np.asarray(high))
        ):
            yield error(
                variable.name,
                f"the valid range runs from {low} down to {high}",
                "CF 2.5.1",
                advice="ask who made the file which values are valid",
            )


def text_of_axes(dataset: Dataset) -> Iterator[Finding]:
    """The attribute `axis` is one letter (CF 4)."""
    for variable in dataset.variables.values():
        given = variable.attributes.get("axis")
        if given is not None and str(given) not in ("X", "Y", "Z", "T"):
            role = find_role(variable.edit("axis"))
            letter = {"latitude": "Y", "longitude": "X", "time": "T", "level": "Z"}.get(
                str(role)
            )
            change = (
                ("--set", f"{variable.name}:axis={letter}")
                if letter
                else ("--remove", f"{variable.name}:axis")
            )
            yield error(
                variable.name,
                f"the axis '{given}' is none of X, Y, Z, T",
                "CF 4",
                change,
            )


CHECKS = (names, units, differences, standard_names, flags, valid_ranges, text_of_axes)
