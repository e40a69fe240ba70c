"""A dataset: variables that share dimensions, their attributes, and what their axes mean."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol, Self

import numpy as np

from rhodolite.arrays import Array, Engine, read_small
from rhodolite.errors import DataError, nearest_names, warn
from rhodolite.model.axes import Axes, Coordinate, Role
from rhodolite.model.cf.cell_methods import methods_over_time
from rhodolite.model.cf.named_variables import mapping_of, named_in
from rhodolite.model.cf.vocabulary import CELL_BOUNDS, NAME_LISTS
from rhodolite.model.finding_axes import find_axes
from rhodolite.model.read_only import as_read_only
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import Variable

_BESIDE = (*NAME_LISTS, "grid_mapping", "cell_measures")
"""Attributes by which data name what describes them."""
_TERMS = ("formula_terms",)
_ADVICE = {
    Role.LATITUDE: "no latitude was found; a latitude needs units degrees_north or standard_name "
    "latitude",
    Role.LONGITUDE: "no longitude was found; a longitude needs units degrees_east or standard_name "
    "longitude",
    Role.TIME: "there is no time axis; a time axis needs units such as 'days since 1990-01-01', "
    "which annotate --set 'NAME:units=...' gives it",
    Role.LEVEL: "there is no vertical axis; one is identified by units of pressure or the "
    "attributes "
    "positive or axis=Z",
}


@dataclass(frozen=True)
class SourceFile:
    """A file, folder or address that a dataset was read from; bytes are not known of an address.

    `groups` are those inside that hold variables, by their paths.
    """

    path: Path
    format: str
    size: int | None
    address: str | None = None
    groups: tuple[str, ...] = ()

    def __str__(self) -> str:
        return self.address or str(self.path)

    @property
    def name(self) -> str:
        """The name of the file alone, or the whole address."""
        return self.address or self.path.name


class Remark(Protocol):
    """Something to say about a dataset, in words and numbers that are computed when it is said."""

    def text(self, engine: Engine) -> str:
        """Return one or several lines."""


@dataclass(frozen=True, eq=False)
class Dataset:
    """A gridded dataset. Never changed in place: every operation returns a new one.

    Parameters
    ----------
    variables : mapping of str to Variable
        All variables in file order: data, coordinates, bounds and labels.
    attributes : mapping
        Attributes of the dataset as a whole.
    unlimited : frozenset of str
        Dimensions that can grow.
    files : tuple of SourceFile
        Where the data come from.
    record : tuple of mapping
        The operations behind it, each as the plain dictionary it can be made from again.
    remarks : tuple of Remark
        What there is to say about it once it has been computed.
    companions : mapping of str to Dataset
        What is to be written beside it, by the names of the files.
    asked_wide : bool
        Whether somebody asked for tables with a column for each time.
    """

    variables: Mapping[str, Variable]
    attributes: Mapping[str, Any] = field(default_factory=dict)
    unlimited: frozenset[str] = frozenset()
    files: tuple[SourceFile, ...] = ()
    record: tuple[Mapping[str, Any], ...] = ()
    remarks: tuple[Remark, ...] = ()
    companions: Mapping[str, Dataset] = field(default_factory=dict)
    asked_wide: bool = False

    def __post_init__(self) -> None:
        for field_name in ("variables", "attributes", "companions"):
            object.__setattr__(
                self, field_name, as_read_only(getattr(self, field_name))
            )

    @property
    def plain(self) -> Dataset:
        """The dataset as steps work on it, without what a face adds for people."""
        return self

    def wrap(self, result: Dataset) -> Self:
        """Return what a step has made of the dataset with the same face.

        Parameters
        ----------
        result : Dataset
        """
        return result  # type: ignore[return-value]

    def __getitem__(self, name: str) -> Variable:
        """Return the variable of a name, or of a standard name."""
        return self.variables[self.find(name)]

    def __iter__(self) -> Iterator[str]:
        """Yield the names of all variables, coordinates among them."""
        return iter(self.variables)

    def __len__(self) -> int:
        """Return the number of variables, coordinates among them."""
        return len(self.variables)

    def __contains__(self, name: object) -> bool:
        return name in self.variables

    def __bool__(self) -> bool:
        return True

    def __repr__(self) -> str:
        lengths = ", ".join(f"{name} {length}" for name, length in self.lengths.items())
        return f"<Dataset {', '.join(v.name for v in self.fields) or 'without fields'}: {lengths}>"

    @cached_property
    def axes(self) -> Axes:
        return find_axes(self.variables)

    @cached_property
    def lengths(self) -> dict[str, int]:
        """Length of each dimension."""
        lengths: dict[str, int] = {}
        for variable in self.variables.values():
            lengths.update(zip(variable.dimensions, variable.shape, strict=True))
        return lengths

    @cached_property
    def fields(self) -> tuple[Variable, ...]:
        """The variables that carry data, as opposed to coordinates and their helpers."""
        return tuple(
            v for name, v in self.variables.items() if name not in self.axes.auxiliary
        )

    @cached_property
    def positions(self) -> tuple[Array, Array]:
        """Latitudes and longitudes of cells or sites that have one each and no axes of them, in
        degrees."""
        names = self.axes.curvilinear or self.axes.sites
        assert names is not None
        north, east = (read_small(self.variables[name].floats()) for name in names)
        return north.astype(np.float64), east.astype(np.float64)

    @cached_property
    def time(self) -> TimeAxis | None:
        """The time axis; None where there is none."""
        coordinate = self.coordinate(Role.TIME)
        if coordinate is None:
            return None
        along = [v for v in self.fields if coordinate.dimension in v.dimensions]
        of_moments = [
            methods_over_time(v.attributes, coordinate.name) == ["point"] for v in along
        ]
        return TimeAxis.of(coordinate, instants=bool(along) and all(of_moments))

    def coordinate(self, role: Role) -> Coordinate | None:
        """Return the coordinate that plays a role, or None."""
        return self.axes.by_role.get(role)

    def need(self, role: Role) -> Coordinate:
        """Return the coordinate that plays a role.

        Raises
        ------
        DataError
            If there is none.
        """
        taken = self.coordinate(role)
        if taken is None:
            if self.axes.curvilinear and role in (Role.LATITUDE, Role.LONGITUDE):
                names = " and ".join(self.axes.curvilinear)
                raise DataError(
                    f"{self.label}: the grid is curvilinear ({names} have two dimensions each); "
                    f"this needs a grid with one-dimensional latitude and longitude"
                )
            if self.axes.sites and role in (Role.LATITUDE, Role.LONGITUDE):
                raise DataError(
                    f"{self.label}: these are data of sites ({' and '.join(self.axes.sites)} run "
                    "along one dimension); this needs a grid"
                )
            raise DataError(
                f"{self.label}: {self._projection_advice(role) or _ADVICE[role]}"
            )
        if not np.isfinite(taken.values).all():
            raise DataError(
                f"{self.label}: the {role} coordinate ({taken.name}) has missing values"
            )
        if not taken.values.size and role is not Role.TIME:
            raise DataError(
                f"{self.label}: the {role} coordinate ({taken.name}) has no cells"
            )
        return taken

    def need_time(self) -> TimeAxis:
        """Return the time axis, or raise DataError if there is none that data run along."""
        coordinate = self.need(Role.TIME)
        if coordinate.dimension is None:
            raise DataError(f"{self.label}: there is a single time and no time axis")
        if not coordinate.values.size:
            raise DataError(
                f"{self.label}: the time axis ({coordinate.name}) has no steps"
            )
        assert self.time is not None
        if self.time.ends_at_stamps:
            first, last = self.time.span_as_written
            warn(
                f"{coordinate.name} has no bounds and runs from {first} to {last}, so each step is "
                "taken to end at its time; convert --stamp start first if it begins there"
            )
        return self.time

    def need_years(self, words: str = "and not values of years") -> TimeAxis:
        """Return the time axis, or raise DataError where there is none or its steps are the phases
        of normals.

        Parameters
        ----------
        words : str
            What is said of normals, after a comma.
        """
        axis = self.need_time()
        if axis.climatological:
            raise DataError(f"{self.label} holds normals, {words}")
        return axis

    def _projection_advice(self, role: Role) -> str:
        """Return what makes places of a projected grid; nothing where there is none."""
        named = {mapping_of(v) for v in self.fields}
        mapping = next(
            (self.variables[name] for name in named if name in self.variables), None
        )
        if mapping is None or role not in (Role.LATITUDE, Role.LONGITUDE):
            return ""
        name = mapping.attributes.get("grid_mapping_name")
        if name is None:
            return (
                f"no {role} was found, and the grid mapping {mapping.name} does not tell its "
                "projection: it lacks a grid_mapping_name"
            )
        return (
            f"no {role} was found, and the grid is projected ({name}); its latitudes and "
            "longitudes are computed where pyproj is installed (pip install "
            "'rhodolite[projections]') and its x and y have a standard_name"
        )

    def find(self, asked: str) -> str:
        """Return the name of the variable asked for by name or standard name.

        Raises
        ------
        DataError
            If there is none; the message has the nearest name and the list.
        """
        if asked in self.variables:
            return asked
        if "/" in asked:
            # A variable of a group, which has its name, or both joined.
            joined = asked.strip("/").replace("/", "_")
            if joined in self.variables:
                return joined
            return self.find(asked.rpartition("/")[2])
        named = [
            v.name for v in self.fields if v.attributes.get("standard_name") == asked
        ]
        if len(named) == 1:
            return named[0]
        if named:
            raise DataError(
                f"{self.label}: {len(named)} variables have the standard name {asked}: "
                f"{', '.join(named)}"
            )
        raise DataError(f"{self.label}: no variable '{asked}'. {self._nearest(asked)}")

    def _nearest(self, asked: str) -> str:
        """Return the names that there are, and which of them or of the standard names is near."""
        hint = nearest_names(asked, [v.name for v in self.fields])
        if "Did you mean" in hint:
            return hint
        standard = [v.attributes.get("standard_name") for v in self.fields]
        other = nearest_names(asked, [str(name) for name in standard if name])
        return other if "Did you mean" in other else hint

    @property
    def wide(self) -> bool:
        """Whether a table of it has a column for each time: as asked, as long as there are sites
        and times."""
        time = self.coordinate(Role.TIME)
        if not self.asked_wide or self.axes.sites is None or time is None:
            return False
        return all(time.dimension in variable.dimensions for variable in self.fields)

    @property
    def label(self) -> str:
        """A short name for messages: the file, or the first and last of several."""
        names = [file.name for file in self.files]
        if not names:
            return "the dataset"
        return (
            names[0]
            if len(names) == 1
            else f"{names[0]} ... {names[-1]} ({len(names)} files)"
        )

    def _describes(self, name: str, dimensions: set[str]) -> bool:
        """Return whether a coordinate runs along one of the dimensions, or holds for the whole
        dataset."""
        return any(
            c.name == name and (c.dimension is None or c.dimension in dimensions)
            for c in self.axes.by_role.values()
        )

    def with_variables(self, variables: Iterable[Variable], **changes: Any) -> Self:
        """Return a copy with these variables instead."""
        return replace(self, variables={v.name: v for v in variables}, **changes)

    def restrict(self, names: Iterable[str]) -> Self:
        """Return a copy with some data variables and all that describes them."""
        keep = set(names)
        dimensions = {d for name in keep for d in self.variables[name].dimensions}
        listed = {word for name in keep for word in self._named_by(name, _BESIDE)}
        describing = {n for n in self.variables if self._helps(n, dimensions)}
        remaining = keep | describing | (listed & self.variables.keys())
        for name in list(remaining):
            bounds = self._named_by(name, CELL_BOUNDS)
            for helper in (*bounds, *self._named_by(name, _TERMS)):
                if helper in self.variables:
                    # Bounds of a hybrid coordinate have terms of their own.
                    remaining |= {helper, *self._named_by(helper, _TERMS)}
        return self.with_variables(
            v for name, v in self.variables.items() if name in remaining
        )

    def _named_by(self, name: str, keys: Iterable[str]) -> list[str]:
        """Return what a variable names in some of its attributes."""
        variable = self.variables[name]
        return [word for key in keys for word in named_in(variable, key)]

    def _helps(self, name: str, dimensions: set[str]) -> bool:
        """Return whether a variable describes what lies along dimensions."""
        is_helper = name in self.axes.auxiliary
        return is_helper and (name in dimensions or self._describes(name, dimensions))
