"""Reading generously: what files half say is understood, and said once.

Nothing here changes a number, but times within their own rounding. What would have to is refused,
where it is needed, with advice.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from rhodolite.arrays import Array, Mapped
from rhodolite.errors import warn
from rhodolite.formats.cf.face_cells import add_face_cells
from rhodolite.formats.cf.named_projections import describe_projections
from rhodolite.formats.cf.observation_lists import lay_out_observations
from rhodolite.formats.cf.projection_coordinates import add_positions
from rhodolite.formats.longitude_bounds import put_bounds_around
from rhodolite.formats.normalise_axes import (
    drop_impossible_bounds,
    drop_repeated_positions,
)
from rhodolite.formats.positions_in_degrees import count_degrees
from rhodolite.formats.rounded_times import put_back_rounded_times
from rhodolite.formats.split_longitudes import join_split_longitudes
from rhodolite.formats.understood_times import understand_times
from rhodolite.model.axes import Role
from rhodolite.model.cf.actual_range import without_old_ranges
from rhodolite.model.cf.classes import spell_classes
from rhodolite.model.cf.named_variables import keep_named, lost_in, spell_names
from rhodolite.model.cf.vocabulary import REFERENCES
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_units import plain_time_units
from rhodolite.model.units.known_units import with_known_units
from rhodolite.model.variable import Variable


def normalise(dataset: Dataset) -> Dataset:
    """Return a dataset whose metadata say outright what they said halfway, and warn of each
    assumption.
    """
    steps: tuple[Callable[[Dataset], Dataset], ...] = (
        understand_words,
        lay_out_observations,
        drop_repeated_positions,
        drop_impossible_bounds,
        put_bounds_around,
        join_split_longitudes,
        understand_times,
        put_back_rounded_times,
        _without_dangling_names,
        _with_plain_axes,
        _with_attached_grid,
        describe_projections,
        add_positions,
        add_face_cells,
    )
    for step in steps:
        dataset = step(dataset)
    for doubt in dataset.axes.doubts:
        warn(f"{dataset.label}: {doubt}")
    return dataset


def understand_words(dataset: Dataset) -> Dataset:
    """Return a dataset whose names, units and angles are written as CF and UDUNITS have them, by
    which files are told to be alike before they are joined."""
    for step in (
        _with_spelled_names,
        _with_spelled_classes,
        _with_plain_time_units,
        _with_known_units,
        count_degrees,
    ):
        dataset = step(dataset)
    return dataset


def _with_spelled_names(dataset: Dataset) -> Dataset:
    return _change_each(dataset, spell_names)


def _with_spelled_classes(dataset: Dataset) -> Dataset:
    return _change_each(dataset, spell_classes)


def _with_plain_time_units(dataset: Dataset) -> Dataset:
    def change(variable: Variable) -> Variable:
        plain = plain_time_units(variable.units or "")
        return (
            variable if plain == (variable.units or "") else variable.edit(units=plain)
        )

    return _change_each(dataset, change)


def declare_missing(dataset: Dataset, value: float) -> Dataset:
    """Return a dataset whose data take a number for a missing value, besides those that the files
    name.
    """
    declared = []
    for variable in dataset.variables.values():
        if (
            variable.name in dataset.axes.auxiliary
            or variable.data.dtype.kind not in "fiu"
        ):
            declared.append(variable)
            continue
        source = variable.floats()
        storage = replace(variable.storage, fill_value=None, limits={})
        if variable.data.dtype.kind in "iu":
            storage = replace(storage, dtype=None)
        declared.append(
            variable.replace(
                data=Mapped(source, _Without(value), source.dtype),
                missing=None,
                storage=storage,
            )
        )
    return without_old_ranges([dataset], dataset.with_variables(declared))


@dataclass(frozen=True)
class _Without:
    """Numbers of which one means a missing value, as close as the type can hold it."""

    value: float

    def __call__(self, block: Array) -> Array:
        return np.where(
            block == block.dtype.type(self.value), block.dtype.type(np.nan), block
        )


def _change_each(dataset: Dataset, change: Callable[[Variable], Variable]) -> Dataset:
    variables = [change(variable) for variable in dataset.variables.values()]
    if all(
        new is old
        for new, old in zip(variables, dataset.variables.values(), strict=True)
    ):
        return dataset
    return dataset.with_variables(variables)


def _with_known_units(dataset: Dataset) -> Dataset:
    return _change_each(dataset, lambda v: with_known_units(v, dataset.label))


def _without_dangling_names(dataset: Dataset) -> Dataset:
    """Drop references to variables that are not there."""
    names = dataset.variables.keys()

    def change(variable: Variable) -> Variable:
        for key in REFERENCES:
            if lost := lost_in(variable, key, names):
                warn(
                    f"{dataset.label}: {variable.name} refers to {', '.join(lost)} as {key}, which "
                    "is not there"
                )
        return keep_named(variable, names)

    return _change_each(dataset, change)


def _with_plain_axes(dataset: Dataset) -> Dataset:
    """Give latitude and longitude, however they were told, the units by which everyone tells
    them."""
    wanted = {Role.LATITUDE: "degrees_north", Role.LONGITUDE: "degrees_east"}
    named = {
        dataset.axes.by_role[role].name: role
        for role in wanted
        if role in dataset.axes.by_role
    }
    named |= dict(zip(dataset.axes.curvilinear or (), wanted, strict=False))

    def change(variable: Variable) -> Variable:
        role = named.get(variable.name)
        if role is None or (
            (variable.units or "").startswith("degree")
            and "_" in (variable.units or "")
        ):
            return variable
        if variable.units not in (
            None,
            "",
            "degrees",
            "degree",
            "deg",
        ) and not variable.attributes.get("standard_name"):
            return variable
        return variable.edit(units=wanted[role], standard_name=role.value)

    return _change_each(dataset, change)


def _with_attached_grid(dataset: Dataset) -> Dataset:
    """Name two-dimensional latitude and longitude in the `coordinates` of the data that lie on
    them."""
    grid = dataset.axes.curvilinear
    if grid is None:
        return dataset
    dimensions = set(dataset.variables[grid[0]].dimensions)
    attached = []

    def change(variable: Variable) -> Variable:
        words = str(variable.attributes.get("coordinates", "")).split()
        if not dimensions <= set(variable.dimensions) or set(grid) <= set(words):
            return variable
        if variable.name in dataset.axes.auxiliary:
            return variable
        attached.append(variable.name)
        return variable.edit(
            coordinates=" ".join(
                [*words, *(name for name in grid if name not in words)]
            )
        )

    changed = _change_each(dataset, change)
    if attached:
        warn(
            f"{dataset.label}: {' and '.join(grid)} are taken as the positions of "
            f"{', '.join(attached)}"
        )
    return changed
