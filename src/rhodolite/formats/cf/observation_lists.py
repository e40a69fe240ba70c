"""Observations of several sites that are told one after another (CF 9.3), along axes of time and
site: contiguous and indexed lists, lists of lists, and rows that are not all equally long."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, Flattened, InMemory, LaidOut, LazyArray, read_small
from rhodolite.arrays.laid_out import NOWHERE
from rhodolite.errors import DataError, warn
from rhodolite.model.axes import Role, find_role
from rhodolite.model.cf.vocabulary import CELL_BOUNDS
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Storage, Variable

Places = NDArray[np.int64]
_COUNTS, _OWNERS = "sample_dimension", "instance_dimension"
_LAID_OUT = (Role.TIME, Role.LEVEL)
"""What observations of a site may run along, in the order of the axes."""
_POSITIONS = (Role.LATITUDE, Role.LONGITUDE)
_MOST_CELLS = 1 << 27
"""More are not laid out, unless a good part of them have a value."""
_FEWEST_VALUES = 0.05
"""The part of the cells that have one."""


@dataclass(frozen=True)
class _Lists:
    """Which observation belongs to which site.

    Attributes
    ----------
    dimensions : tuple of str
        Of the observations.
    site : str
        The dimension of the sites.
    owners : ndarray of int64, shape (observations,)
        The site of each; `NOWHERE` where it has none.
    between : mapping of str to ndarray of int64
        For each dimension between the two, such as that of profiles, where an observation lies
        along it.
    described_by : tuple of str
        The variables that said so.
    """

    dimensions: tuple[str, ...]
    site: str
    owners: Places
    between: dict[str, Places]
    described_by: tuple[str, ...]


def lay_out_observations(dataset: Dataset) -> Dataset:
    """Return a dataset whose lists of observations lie along axes of time, level and site; others
    as they are.

    Raises
    ------
    DataError
        If a list counts more observations than there are, or has two of one site and time.
    """
    lists = _find_lists(dataset)
    if lists is None:
        return dataset
    axes = _axes_of(dataset, lists)
    sites_are_placed = {Role.LATITUDE, Role.LONGITUDE} <= {
        find_role(v)
        for v in dataset.variables.values()
        if v.dimensions == (lists.site,)
    }
    if not axes or not sites_are_placed:
        kind = str(dataset.attributes.get("featureType", "of no kind that is told"))
        warn(
            f"{dataset.label}: its observations ({kind}) are not of fixed sites with times of "
            "their own; they are read as a list, and what needs axes refuses them"
        )
        return dataset
    return _Layout.of(dataset, lists, axes).dataset()


def _find_lists(dataset: Dataset) -> _Lists | None:
    """Return which observation belongs to which site, where the dataset tells it."""
    links = [_link_of(dataset, variable) for variable in dataset.variables.values()]
    known = [link for link in links if link is not None]
    if not known:
        return _rows_of_sites(dataset)
    parents = {link.dimensions[0]: link for link in known}
    lowest = parents.keys() - {link.site for link in known}
    if len(lowest) != 1:
        return None
    link = parents[lowest.pop()]
    if link.site not in parents:
        return link
    # Of profiles of sites: observations belong to profiles, and these to sites.
    upper = parents[link.site]
    owners = np.append(upper.owners, NOWHERE)[link.owners]
    names = link.described_by + upper.described_by
    return _Lists(link.dimensions, upper.site, owners, {link.site: link.owners}, names)


def _link_of(dataset: Dataset, variable: Variable) -> _Lists | None:
    """Return what a variable says of which observation belongs to which instance."""
    if variable.data.ndim != 1 or variable.data.dtype.kind not in "iu":
        return None
    lengths, dimension = dataset.lengths, variable.dimensions[0]
    # Other conventions may give these names to numbers.
    observed, site = (
        str(variable.attributes.get(key, "")) for key in (_COUNTS, _OWNERS)
    )
    if observed in lengths:
        counts = np.maximum(read_small(variable.data).astype(np.int64), 0)
        if counts.sum() > lengths[observed]:
            raise DataError(
                f"{dataset.label}: {variable.name} counts {counts.sum():,} observations, and there "
                f"are {lengths[observed]:,}"
            )
        owners = np.full(lengths[observed], NOWHERE, dtype=np.int64)
        owners[: counts.sum()] = np.repeat(np.arange(counts.size), counts)
        return _Lists((observed,), dimension, owners, {}, (variable.name,))
    if site in lengths:
        owners = read_small(variable.data).astype(np.int64)
        there = (owners >= 0) & (owners < lengths[site])
        lost = int(np.count_nonzero(~there))
        if lost:
            warn(
                f"{dataset.label}: {lost:,} of {owners.size:,} observations are left out, since "
                f"{variable.name} names no {site} that there is"
            )
        return _Lists(
            (dimension,), site, np.where(there, owners, NOWHERE), {}, (variable.name,)
        )
    return None


def _rows_of_sites(dataset: Dataset) -> _Lists | None:
    """Return the rows of a table of sites and observations in which each site has times of its
    own."""
    for variable in dataset.variables.values():
        if variable.data.ndim != 2 or find_role(variable) is not Role.TIME:
            continue
        sites, observed = variable.dimensions
        of_sites, of_observed = (
            {
                find_role(v)
                for v in dataset.variables.values()
                if v.dimensions == (name,)
            }
            for name in (sites, observed)
        )
        # Beside an axis of time, dates are results, such as the end of a season.
        if of_sites >= set(_POSITIONS) and Role.TIME not in of_observed:
            count, length = variable.shape
            owners = np.repeat(np.arange(count), length)
            return _Lists(variable.dimensions, sites, owners, {sites: owners}, ())
    return None


def _axes_of(dataset: Dataset, lists: _Lists) -> dict[Role, Variable]:
    """Return the coordinates that observations of one site differ by; none where they have
    positions of their own."""
    axes: dict[Role, Variable] = {}
    along = {lists.dimensions, *((d,) for d in lists.between if d != lists.site)}
    bounds = {v.attributes.get("bounds") for v in dataset.variables.values()}
    for variable in dataset.variables.values():
        role = find_role(variable)
        if role is None or variable.dimensions not in along or variable.name in bounds:
            continue
        if role in _POSITIONS or role in axes or variable.data.dtype.kind not in "fiu":
            return {}
        axes[role] = variable
    return {role: axes[role] for role in _LAID_OUT if role in axes}


@dataclass(frozen=True)
class _Layout:
    """Observations along axes.

    Attributes
    ----------
    coordinates : list of Variable
        One along each axis but that of the sites.
    first : list of ndarray of int64
        For each value of these, an observation that has it.
    places : ndarray of int64, shape (*axes, sites)
        The observation of each cell.
    """

    source: Dataset
    lists: _Lists
    axes: dict[Role, Variable]
    coordinates: list[Variable]
    first: list[Places]
    places: Places

    @classmethod
    def of(cls, dataset: Dataset, lists: _Lists, axes: dict[Role, Variable]) -> _Layout:
        """Find the values of each axis, and the place of each observation.

        Raises
        ------
        DataError
            If there are two of one place, or far more cells than observations.
        """
        numbers = [_along(lists, variable) for variable in axes.values()]
        used = (lists.owners != NOWHERE) & np.all(np.isfinite(numbers), axis=0)
        rows = np.flatnonzero(used)
        if not rows.size:
            raise DataError(
                f"{dataset.label}: no observation belongs to a site and has a time"
            )
        coordinates, first, indices = [], [], []
        for variable, values in zip(axes.values(), numbers, strict=True):
            known, begins, index = np.unique(
                values[rows], return_index=True, return_inverse=True
            )
            name = (variable.name,)
            coordinates.append(
                variable.replace(
                    dimensions=name, data=InMemory(known), storage=Storage()
                )
            )
            first.append(rows[begins])
            indices.append(index)
        shape = (*(c.data.size for c in coordinates), dataset.lengths[lists.site])
        if math.prod(shape) > max(_MOST_CELLS, rows.size / _FEWEST_VALUES):
            raise DataError(
                f"{dataset.label}: {rows.size:,} observations at {shape[-1]:,} sites share so few "
                f"times that {math.prod(shape):,} cells would hold them"
            )
        at = np.ravel_multi_index((*indices, lists.owners[rows]), shape)
        _refuse_twice(dataset, lists, np.asarray(at), rows)
        places = np.full(math.prod(shape), NOWHERE, dtype=np.int64)
        places[at] = rows
        return cls(dataset, lists, axes, coordinates, first, places.reshape(shape))

    def dataset(self) -> Dataset:
        """Return the dataset with the observations along the axes."""
        lists, names = self.lists, {variable.name for variable in self.axes.values()}
        bounds = {
            str(c.attributes[key])
            for c in self.coordinates
            for key in CELL_BOUNDS
            if key in c.attributes
        }
        listed = {*lists.dimensions, *lists.between} - {lists.site}
        result: list[Variable] = []
        for variable in self.source.variables.values():
            if variable.name in names or variable.name in lists.described_by:
                continue
            if variable.name in bounds:
                result.append(self._bounds(variable))
            elif variable.dimensions == lists.dimensions:
                result.append(self._field(variable))
            elif not listed & set(variable.dimensions):
                result.append(variable)
            else:
                warn(
                    f"{self.source.label}: {variable.name} is left out, since it lies along "
                    f"{', '.join(variable.dimensions)} and not along observations alone"
                )
        unlimited = self.source.unlimited - listed
        return self.source.with_variables(
            [*self.coordinates, *result], unlimited=unlimited
        )

    def _field(self, variable: Variable) -> Variable:
        dimensions = (*(c.name for c in self.coordinates), self.lists.site)
        data, missing = _flat(variable.data), variable.missing
        storage = Storage(
            variable.storage.dtype,
            variable.storage.fill_value,
            packing=variable.storage.packing,
        )
        absent: object = np.nan
        if data.dtype.kind in "iu":
            # Integers stay integers where they have a number for what is missing.
            if missing is None and (self.places == NOWHERE).any():
                data, storage = _flat(variable.floats()), Storage()
            else:
                absent = 0 if missing is None else missing
        elif data.dtype.kind != "f":
            absent = ""
        laid_out = LaidOut(data, self.places, absent)
        named = str(variable.attributes.get("coordinates", "")).split()
        words = [
            word for word in named if word not in {c.name for c in self.coordinates}
        ]
        changed = variable.replace(
            dimensions=dimensions, data=laid_out, storage=storage, missing=missing
        )
        return changed.edit(
            "coordinates", **({"coordinates": " ".join(words)} if words else {})
        )

    def _bounds(self, variable: Variable) -> Variable:
        """Return the bounds of an axis, which are those of an observation of each of its values."""
        number = next(
            at
            for at, coordinate in enumerate(self.coordinates)
            if variable.name in coordinate.attributes.values()
        )
        coordinate, rows = self.coordinates[number], self.first[number]
        along = list(self.axes.values())[number].dimensions
        # Of equal times the bounds are taken to be equal, too.
        values = read_small(variable.data)
        if along == self.lists.dimensions:
            values = values.reshape(-1, values.shape[-1])
        else:
            rows = self.lists.between[along[0]][rows]
        dimensions = (coordinate.name, variable.dimensions[-1])
        data = InMemory(values[rows])
        return variable.replace(dimensions=dimensions, data=data, storage=Storage())


def _along(lists: _Lists, variable: Variable) -> Array:
    """Return the values of a coordinate, one for each observation."""
    values = read_small(variable.floats()).astype(np.float64).reshape(-1)
    if variable.dimensions == lists.dimensions:
        return values
    return np.append(values, np.nan)[lists.between[variable.dimensions[0]]]


def _flat(data: LazyArray) -> LazyArray:
    return data if data.ndim == 1 else Flattened(data, tuple(range(data.ndim)))


def _refuse_twice(dataset: Dataset, lists: _Lists, at: Places, rows: Places) -> None:
    """Refuse two observations of one place."""
    order = np.argsort(at, kind="stable")
    repeated = np.flatnonzero(np.diff(at[order]) == 0)
    if repeated.size:
        first, second = rows[order[[repeated[0], repeated[0] + 1]]]
        raise DataError(
            f"{dataset.label}: observations {first + 1:,} and {second + 1:,} of "
            f"{', '.join(lists.dimensions)} are of the same {lists.site} and time; leave one out"
        )
