"""Opening GRIB files: their fields as variables, values when they are needed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import compress
from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, nearest_names, warn
from rhodolite.formats.grib.families import (
    Family,
    Series,
    gather_families,
    gather_series,
)
from rhodolite.formats.grib.grids import Grid, read_grid
from rhodolite.formats.grib.keys import Keys, read_fields
from rhodolite.formats.grib.levels import (
    HYBRID,
    Level,
    kind_of,
    level_of,
    make_coefficients,
    make_levels,
)
from rhodolite.formats.grib.messages import open_message, read_key, read_numbers
from rhodolite.formats.grib.sections import Field
from rhodolite.formats.grib.times import (
    Moment,
    TimeAxis,
    cell_method,
    make_time_axis,
)
from rhodolite.formats.grib.values import GribVariable
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Storage, Variable

_SINGLE_BITS = 24
"""Packed values of more bits do not fit into single precision."""
_MOST_LISTED = 12
"""Groups in a message."""
_MEMBERS = "member"
_SURFACE_PRESSURE = "surface_air_pressure"
_HYBRID_NAME = "atmosphere_hybrid_sigma_pressure_coordinate"
_ALONG_GRID = {
    "eastward_wind": "x_wind",
    "northward_wind": "y_wind",
}


def read(path: Path, group: str | None = None) -> Dataset:
    """Open a file, or those of its variables that share their axes.

    Parameters
    ----------
    path : Path
    group : str, optional
        Name of such variables, where a file holds several of their kind.

    Raises
    ------
    DataError
        If it is damaged, its fields are on several grids or along several axes of time and none
        was chosen, or a field is there twice.
    """
    fields = read_fields(path)
    if not fields:
        raise DataError(f"{path}: there is no whole message in this file")
    families = gather_families(gather_series([keys for _, keys in fields]))
    family = _choose(path, families, group)
    size = path.stat().st_size
    groups = tuple(f"/{name}" for name in families) if len(families) > 1 else ()
    source = SourceFile(path, _format_name(fields), size, groups=groups)
    variables = _Assembly(path, [field for field, _ in fields], family).variables()
    centres = dict.fromkeys(keys.centre for _, keys in fields if keys.centre)
    attributes = {"institution": ", ".join(centres)} if centres else {}
    named = {variable.name: variable for variable in variables}
    return Dataset(named, attributes, frozenset(), (source,))


def _format_name(fields: Sequence[tuple[Field, Keys]]) -> str:
    """Return the format with its edition; descriptions of fields are told apart in edition 2
    alone."""
    editions = sorted({2 if field.description else 1 for field, _ in fields})
    return "GRIB edition " + " and ".join(map(str, editions))


def _choose(path: Path, families: dict[str, Family], group: str | None) -> Family:
    if group is not None:
        name = group.strip("/")
        if name not in families:
            raise DataError(
                f"{path}: no group '{name}'. {nearest_names(name, list(families))}"
            )
        return families[name]
    if len(families) == 1:
        return next(iter(families.values()))
    lines = [
        f"\n  {path}:/{name}  {', '.join(series.name for series in family.series)}"
        f" ({len(family.moments):,} times)"
        for name, family in families.items()
    ]
    if len(lines) > _MOST_LISTED:
        more = len(lines) - _MOST_LISTED
        lines = [*lines[:_MOST_LISTED], f"\n  and {more:,} more like these"]
    raise DataError(
        f"{path}: the fields in this file are on several grids, or along times that do not go "
        f"together, so they are no one dataset. Name one of its groups:{''.join(lines)}"
    )


@dataclass
class _Places:
    """Which field each map of a variable is of, and along which dimensions."""

    numbers: Array
    dimensions: tuple[str, ...]
    coordinates: str


class _Assembly:
    """Puts the variables of a family together.

    Parameters
    ----------
    path : Path
    fields : sequence of Field
        All of the file.
    family : Family
    """

    def __init__(self, path: Path, fields: Sequence[Field], family: Family) -> None:
        self._path, self._fields, self._family = path, list(fields), family
        self._grid: Grid = read_grid(path, fields[family.series[0].members[0][0]])
        starts = {time: min(begins) for time, begins in family.starts.items()}
        self._times: TimeAxis = make_time_axis(family.moments, starts)
        self._at_moment = {moment: n for n, moment in enumerate(self._times.moments)}
        self._members = _members_of(family)
        self._levels: dict[tuple[str, tuple[Level, ...]], list[Variable]] = {}

    def variables(self) -> list[Variable]:
        """Return the data variables and all that describes them."""
        data = [self._variable(series) for series in self._family.series]
        helpers = [*self._times.coordinates, *self._grid.coordinates]
        if self._members:
            helpers.append(self._member_axis())
        helpers += [level for levels in self._levels.values() for level in levels]
        return [*self._with_pressure_terms(helpers, data), *data]

    def _member_axis(self) -> Variable:
        numbers = np.array(self._members)
        several = len(numbers) > 1
        return Variable(
            _MEMBERS,
            (_MEMBERS,) if several else (),
            InMemory(numbers if several else numbers[0]),
            {"standard_name": "realization", "long_name": "number of the member"},
        )

    def _variable(self, series: Series) -> Variable:
        places = self._places(series)
        values = GribVariable(
            self._path, series.name, self._fields, places.numbers, self._grid.scanning
        )
        keys = series.first
        single = 0 < keys.bits <= _SINGLE_BITS
        storage = Storage(dtype="float32" if single else None, chunks=values.chunks)
        return Variable(
            series.name,
            (*places.dimensions, *self._grid.dimensions),
            values,
            self._attributes(series, places.coordinates),
            storage,
        )

    def _attributes(self, series: Series, coordinates: str) -> dict[str, str]:
        keys = series.first
        standard_name = keys.standard_name
        if keys.along_grid and self._grid.dimensions != ("lat", "lon"):
            standard_name = _ALONG_GRID.get(standard_name or "", standard_name)
        given = {
            "standard_name": standard_name,
            "long_name": keys.long_name,
            "units": keys.units,
            "cell_methods": cell_method(keys.step_kind, series.interval_comment),
        }
        about = {key: text for key, text in given.items() if text is not None}
        about |= self._grid.attributes
        names = f"{coordinates} {about.get('coordinates', '')}".split()
        return about | ({"coordinates": " ".join(names)} if names else {})

    def _places(self, series: Series) -> _Places:
        """Return where the fields of a variable lie; a single level is no dimension."""
        levels = _levels_of(series)
        coordinate = self._level_coordinate(series.first, levels)
        members = self._members or [0]
        lengths = (len(members), len(self._times.moments), len(levels))
        numbers = np.full(lengths, -1)
        at_level = {level: n for n, level in enumerate(levels)}
        for number, keys in series.members:
            member = members.index(keys.member or 0)
            at = member, self._at_moment[Moment.of(keys)], at_level[level_of(keys)]
            self._put(series.name, numbers, at, number, keys)
        self._say_gaps(series.name, numbers)
        # Times are a dimension even where there is one.
        names = (_MEMBERS if self._members else "", "time", coordinate)
        are_dimensions = (lengths[0] > 1, True, lengths[2] > 1)
        single = tuple(at for at, is_one in enumerate(are_dimensions) if not is_one)
        beside = [self._times.beside]
        beside += [names[at] for at in reversed(single)]
        return _Places(
            numbers.squeeze(single),
            tuple(compress(names, are_dimensions)),
            " ".join(filter(None, beside)),
        )

    def _put(
        self, name: str, numbers: Array, at: tuple[int, ...], number: int, keys: Keys
    ) -> None:
        if numbers[at] >= 0:
            raise DataError(
                f"{self._path}: {name} of {Moment.of(keys).valid}, level {keys.level or 0:g}, is "
                "in this file more than once; leave one of them out where it is made"
            )
        numbers[at] = number

    def _say_gaps(self, name: str, numbers: Array) -> None:
        missing = int((numbers < 0).sum())
        if missing:
            warn(
                f"{self._path}: {missing:,} of the {numbers.size:,} maps of {name} are not in "
                "this file; they are missing values"
            )

    def _level_coordinate(self, keys: Keys, levels: tuple[Level, ...]) -> str:
        """Return the name of the coordinate of levels, made where it is new; none where there is
        nothing to tell."""
        kind = kind_of(keys)
        if kind is None and len(levels) == 1:
            return ""
        base = "surface_number" if kind is None else kind.name
        known = self._levels.get((base, levels))
        if known is None:
            taken = {name for name, _ in self._levels}
            alike = [entry for entry in self._levels if entry[0] == base]
            name = f"{base}_{len(alike) + 1}" if base in taken else base
            known = make_levels(name, kind, levels)
            self._levels[base, levels] = known
        return known[0].name

    def _with_pressure_terms(
        self, helpers: list[Variable], data: list[Variable]
    ) -> list[Variable]:
        """Return coordinates, with the coefficients of model levels beside them where the file
        gives these, by which pressures are computed."""
        of_model = (s for s in self._family.series if s.first.level_kind in HYBRID)
        series = next(of_model, None)
        if series is None:
            return helpers
        levels = _levels_of(series)
        name = self._level_coordinate(series.first, levels)
        with open_message(self._path, self._fields[series.members[0][0]]) as handle:
            present = read_key(handle, "PVPresent", int)
            pairs = read_numbers(handle, "pv") if present else np.empty(0)
        if 2 * max(level for level, _ in levels) + 2 > pairs.size:
            return helpers
        surface = [
            v for v in data if v.attributes.get("standard_name") == _SURFACE_PRESSURE
        ]
        if surface:
            terms = f"ap: ap b: b ps: {surface[0].name}"
            helpers = [
                helper.edit(standard_name=_HYBRID_NAME, formula_terms=terms)
                if helper.name == name
                else helper
                for helper in helpers
            ]
        return [*helpers, *make_coefficients(name, levels, pairs)]


def _members_of(family: Family) -> list[int]:
    """Return the numbers of the members; one without a number among such is the control, 0."""
    numbers = {keys.member for series in family.series for _, keys in series.members}
    if numbers == {None}:
        return []
    return sorted({number or 0 for number in numbers})


def _levels_of(series: Series) -> tuple[Level, ...]:
    """Return the levels of a variable in ascending order; layers by their upper and lower ends."""
    return tuple(sorted({level_of(keys) for _, keys in series.members}, key=_order))


def _order(level: Level) -> tuple[float, float]:
    return level[0], level[0] if level[1] is None else level[1]
