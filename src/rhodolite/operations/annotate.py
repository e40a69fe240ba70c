"""Names and attributes, without touching the data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np

from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.model.attribute_edits import Place, Removals, Renames, Settings
from rhodolite.model.cf.named_variables import keep_named, rename_in
from rhodolite.model.cf.vocabulary import LIMITS, PACKING
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.units.udunits import is_unit
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter, parameters

_NUMERIC = ("actual_range", "flag_masks", "flag_values")


@dataclass(frozen=True)
class Annotate(Operation):
    """Names and attributes of variables, dimensions and the dataset.

    Each option can be given several times. Names are changed first, then attributes are
    removed, then set, so that settings use the new names. References to a renamed variable
    follow it. An attribute is text, unless it replaces a number. Attributes that describe how
    numbers are stored (such as `scale_factor`) cannot be set, since that would change the data.

    Examples
    --------
    >>> Annotate(rename="tp=pr", set=["pr:units=mm day-1", ":title=Rain"])  # doctest: +SKIP
    """

    runs_before_normalise: ClassVar[bool] = True
    set: Settings | None = parameter(
        "set an attribute", example="VARIABLE:ATTRIBUTE=VALUE"
    )
    remove: Removals | None = parameter(
        "remove an attribute or a variable", example="VARIABLE:ATTRIBUTE"
    )
    rename: Renames | None = parameter(
        "rename a variable, a dimension or an attribute", example="OLD=NEW"
    )

    def check(self) -> None:
        if all(
            getattr(self, declared.field) is None for declared in parameters(type(self))
        ):
            raise UsageError(
                "annotate: what? Give --set, --remove or --rename; convert INPUT -o OUTPUT changes "
                "the format alone"
            )
        for place, _ in self.set.pairs if self.set else ():
            if place.attribute in ("_FillValue", *PACKING, *LIMITS):
                raise UsageError(
                    f"--set: {place.attribute} says how numbers are stored; it follows from the "
                    "data"
                )

    def combines_values(self) -> bool:
        """See `Operation.combines_values`."""
        return False

    def apply(self, dataset: Dataset) -> Dataset:
        """Return the dataset under other names and with other attributes.

        Raises
        ------
        DataError
            If what is to be changed is not there, or a new name is taken.
        """
        for place, new in self.rename.pairs if self.rename else ():
            dataset = _rename(dataset, place, new)
        for place in self.remove.places if self.remove else ():
            dataset = _remove(dataset, place)
        for place, value in self.set.pairs if self.set else ():
            dataset = _set(dataset, place, value)
        return dataset


def _set(dataset: Dataset, place: Place, text: str) -> Dataset:
    name = str(place.attribute)
    if not place.variable:
        value = _as_before(dataset.attributes.get(name), name, text)
        return replace(dataset, attributes={**dataset.attributes, name: value})
    variable = _variable(dataset, place.variable)
    is_known = counts_from_a_date(text) or is_unit(text)
    if name == "units" and not is_known:
        raise DataError(
            f"--set {place}={text}: UDUNITS does not know '{text}'; write units like degC, mm "
            "day-1, m s-1"
        )
    value = _as_before(variable.attributes.get(name), name, text)
    return _with(dataset, variable.edit(**{name: value}))


def _remove(dataset: Dataset, place: Place) -> Dataset:
    if place.attribute is None:
        return _without_variable(dataset, place)
    if place.variable:
        variable = _variable(dataset, place.variable)
        _need_attribute(place, variable.attributes)
        return _with(dataset, variable.edit(place.attribute))
    _need_attribute(place, dataset.attributes)
    remaining = dict(dataset.attributes)
    del remaining[place.attribute]
    return replace(dataset, attributes=remaining)


def _without_variable(dataset: Dataset, place: Place) -> Dataset:
    """Return a dataset without a variable, and without its name in the attributes of others."""
    variable = _variable(dataset, place.variable)
    others = [v for v in dataset.variables.values() if v is not variable]
    is_axis = place.variable in dataset.lengths
    if is_axis and any(place.variable in other.dimensions for other in others):
        raise DataError(
            f"--remove {place}: other variables run along it, so they would lose their coordinate"
        )
    names = [other.name for other in others]
    return dataset.with_variables(keep_named(other, names) for other in others)


def _need_attribute(place: Place, attributes: Mapping[str, Any]) -> None:
    if place.attribute not in attributes:
        raise DataError(
            f"--remove {place}: there is no such attribute. "
            f"{nearest_names(str(place.attribute), attributes)}"
        )


def _rename(dataset: Dataset, place: Place, new: str) -> Dataset:
    old = place.variable
    if place.attribute is not None:
        holder = _variable(dataset, old).attributes if old else dataset.attributes
        renamed = _renamed_key(holder, place, new)
        if not old:
            return replace(dataset, attributes=renamed)
        return _with(dataset, _variable(dataset, old).replace(attributes=renamed))
    if old not in dataset.variables and old not in dataset.lengths:
        old = dataset.find(old)
    if new in dataset.variables or new in dataset.lengths:
        raise DataError(f"--rename {old}={new}: the name {new} is taken already")

    def rename(name: str) -> str:
        return new if name == old else name

    renamed_variables = [
        variable.replace(
            name=rename(variable.name),
            dimensions=tuple(map(rename, variable.dimensions)),
            attributes=rename_in(variable.attributes, {old: new}),
        )
        for variable in dataset.variables.values()
    ]
    unlimited = frozenset(map(rename, dataset.unlimited))
    return dataset.with_variables(renamed_variables, unlimited=unlimited)


def _renamed_key(
    attributes: Mapping[str, Any], place: Place, new: str
) -> dict[str, Any]:
    if place.attribute not in attributes:
        there = nearest_names(str(place.attribute), attributes)
        raise DataError(f"--rename {place}={new}: there is no such attribute. {there}")
    if new in attributes:
        raise DataError(f"--rename {place}={new}: there is an attribute {new} already")
    return {
        new if key == place.attribute else key: value
        for key, value in attributes.items()
    }


def _as_before(before: Any, name: str, text: str) -> Any:
    """Return a value of the type that the attribute had: text, or a number where that was one."""
    if name not in _NUMERIC and (before is None or isinstance(before, str)):
        return text
    try:
        numbers = np.array([float(word) for word in text.replace(",", " ").split()])
    except ValueError:
        raise DataError(
            f"--set {name}: '{text}' is not a number, which the attribute has been so far"
        ) from None
    kind = np.asarray(before).dtype if before is not None else numbers.dtype
    return numbers.astype(kind) if numbers.size != 1 else kind.type(numbers[0])


def _variable(dataset: Dataset, name: str) -> Variable:
    return dataset.variables[name] if name in dataset.variables else dataset[name]


def _with(dataset: Dataset, changed: Variable) -> Dataset:
    return dataset.with_variables(
        changed if v.name == changed.name else v for v in dataset.variables.values()
    )
