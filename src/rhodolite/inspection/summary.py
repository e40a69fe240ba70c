"""What a dataset holds, as plain dictionaries: the machine-readable side of `inspect`."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np

from rhodolite.arrays import Engine
from rhodolite.inspection.times import describe_times
from rhodolite.kernels.sphere import great_circle
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.cf.plausible import tell_implausible
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.space.axis_cells import AxisShape, covers_globe
from rhodolite.model.space.cell_lists import is_cell_list
from rhodolite.model.space.extent import Extent
from rhodolite.model.time.date_values import units_of_dates, write_dates
from rhodolite.model.units.differences import Zero, temperature_reading
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.area_mean import overview
from rhodolite.plain_text import shorten_number

Plain = dict[str, Any]


def describe(dataset: Dataset, engine: Engine, *, statistics: bool = False) -> Plain:
    """Return what a dataset holds.

    Parameters
    ----------
    dataset : Dataset
    engine : Engine
    statistics : bool
        Whether to read the data for the share of missing values, the range and the mean.

    Returns
    -------
    dict
        With the keys files, title, where, when, height, variables and attributes. Only plain
        values, fit for JSON.
    """
    return {
        "files": [_file(source) for source in dataset.files],
        "title": str(dataset.attributes.get("title", "")) or None,
        "where": _where(dataset),
        "when": describe_times(dataset),
        "height": _height(dataset.coordinate(Role.LEVEL)),
        "dimensions": dict(dataset.lengths),
        "variables": [
            _variable(dataset, v, engine, statistics) for v in dataset.fields
        ],
        "attributes": {key: _plain(value) for key, value in dataset.attributes.items()},
    }


def _file(source: SourceFile) -> Plain:
    described = {"name": str(source), "format": source.format, "bytes": source.size}
    return described | ({"groups": list(source.groups)} if source.groups else {})


def describe_variable(
    dataset: Dataset, name: str, engine: Engine, *, statistics: bool = False
) -> Plain:
    """Return everything about one variable: attributes, storage, and its coordinates.

    Parameters
    ----------
    dataset : Dataset
    name : str
    engine : Engine
        What computes the values.
    statistics : bool
        Whether the data are read for their range and mean.
    """
    variable = dataset[name]
    storage = variable.storage
    described = _variable(dataset, variable, engine, statistics)
    described["attributes"] = {
        key: _plain(value) for key, value in variable.attributes.items()
    }
    described["storage"] = {
        "chunks": None if storage.chunks is None else list(storage.chunks),
        "compression": list(storage.filters),
        "fill_value": _plain(storage.fill_value),
        "packing": described.pop("packing"),
        "bytes_unpacked": variable.data.size * variable.data.dtype.itemsize,
    }
    described["coordinates"] = [
        _coordinate(dataset, c) for c in _coordinates_of(dataset, variable)
    ]
    return described


def _where(dataset: Dataset) -> Plain | None:
    if dataset.axes.curvilinear:
        return _curvilinear(dataset, *dataset.axes.curvilinear)
    if dataset.axes.sites:
        return _sites(dataset, *dataset.axes.sites)
    latitude = dataset.coordinate(Role.LATITUDE)
    longitude = dataset.coordinate(Role.LONGITUDE)
    if latitude is None or longitude is None:
        return None
    for coordinate in (latitude, longitude):
        if not coordinate.values.size or not np.isfinite(coordinate.values).all():
            what = "missing values" if coordinate.values.size else "no cells"
            words = f"the {coordinate.role} coordinate ({coordinate.name}) has {what}"
            return {"unreadable": words}
    rows = AxisShape.of(latitude.values)
    columns = AxisShape.of(np.unwrap(longitude.values, period=360.0))
    return {
        "grid": _kind_of_grid(rows, columns),
        "latitude": _axis(latitude, rows),
        "longitude": _axis(longitude, columns),
        **_extent_of(latitude.values, longitude.values),
        "global_round": covers_globe(longitude.values),
        "convention": _convention(longitude.values),
    }


def _kind_of_grid(rows: AxisShape, columns: AxisShape) -> str:
    if rows.spacing is not None and columns.spacing is not None:
        return "regular"
    if rows.count == 1 or columns.count == 1:
        return "single"
    return "rectilinear, unevenly spaced"


def _curvilinear(dataset: Dataset, latitude: str, longitude: str) -> Plain:
    """Describe a grid whose latitude and longitude have two dimensions."""
    rows, columns = dataset.positions
    mapping = next(
        (
            str(m)
            for v in dataset.variables.values()
            if (m := v.attributes.get("grid_mapping_name"))
        ),
        None,
    )
    described: Plain = {
        "grid": "curvilinear",
        "latitude": latitude,
        "longitude": longitude,
        "mapping": mapping,
        "cells": dict(zip(dataset[latitude].dimensions, rows.shape, strict=True)),
    }
    if extent := _extent_of(rows, columns):
        described |= extent
        steps = [
            great_circle(rows[1:, :], columns[1:, :], rows[:-1, :], columns[:-1, :]),
            great_circle(rows[:, 1:], columns[:, 1:], rows[:, :-1], columns[:, :-1]),
        ]
        described["spacing"] = [
            _finite(float(np.nanmedian(step))) if step.size else None for step in steps
        ]
    return described


def _sites(dataset: Dataset, latitude: str, longitude: str) -> Plain:
    rows, columns = dataset.positions
    return {
        "grid": "sites",
        "of": "listed cell" if is_cell_list(dataset) else "site",
        "latitude": latitude,
        "longitude": longitude,
        "count": rows.size,
        **_extent_of(rows, columns),
    }


def _extent_of(latitudes: np.ndarray, longitudes: np.ndarray) -> Plain:
    if not (np.isfinite(latitudes).any() and np.isfinite(longitudes).any()):
        return {}
    return dataclasses.asdict(Extent.of(latitudes, longitudes))


def _axis(coordinate: Coordinate, shape: AxisShape) -> Plain:
    return {
        "name": coordinate.name,
        "count": shape.count,
        "spacing": shape.spacing,
        "direction": shape.direction,
        "bounds": coordinate.bounds is not None,
    }


def _convention(longitudes: np.ndarray) -> str:
    if longitudes.min() < 0:
        return "-180..180"
    return "0..360" if longitudes.max() > 180 else "either"


def _height(coordinate: Coordinate | None) -> Plain | None:
    if coordinate is None:
        return None
    return {
        "name": coordinate.name,
        "units": coordinate.variable.units,
        "count": coordinate.values.size,
        "levels": [float(f"{value:.7g}") for value in coordinate.values],
        "positive": coordinate.variable.attributes.get("positive"),
        "quantity": coordinate.variable.quantity,
    }


def _variable(
    dataset: Dataset, variable: Variable, engine: Engine, statistics: bool
) -> Plain:
    packing = variable.storage.packing
    described: Plain = {
        "name": variable.name,
        "quantity": variable.quantity,
        "standard_name": variable.attributes.get("standard_name"),
        "units": variable.units,
        "dimensions": dict(zip(variable.dimensions, variable.shape, strict=True)),
        "type": packing.dtype if packing else _type_name(variable),
        "packing": {"scale": packing.scale, "offset": packing.offset}
        if packing
        else None,
        "cell_methods": variable.attributes.get("cell_methods"),
        "temperature": _temperature(variable),
    }
    if statistics and variable.data.dtype.kind in "fiu" and variable.data.size:
        count, missing, low, high, mean = (
            float(x) for x in engine.compute(overview(dataset, variable), variable.name)
        )
        described["statistics"] = {
            "values": int(count),
            "missing": int(missing),
            "missing_share": missing / count,
            "minimum": _told(variable, low),
            "maximum": _told(variable, high),
            # Of classes there is none.
            "mean": None if variable.classes else _told(variable, mean),
            "implausible": tell_implausible(variable, low, high) or None,
        }
    return described


def _told(variable: Variable, value: float) -> float | str | None:
    """Return a value, or the date that it is."""
    units = units_of_dates(variable)
    if units is None or not np.isfinite(value):
        return _finite(value)
    return str(write_dates(np.array([value]), units)[0])


def _coordinates_of(dataset: Dataset, variable: Variable) -> list[Coordinate]:
    """Return the coordinates that a variable runs along, in the order of its dimensions, and then
    the scalars."""
    scalars = [
        c
        for c in dataset.axes.by_role.values()
        if c.dimension is None or c.dimension in variable.dimensions
    ]
    last = len(variable.dimensions)
    return sorted(
        scalars,
        key=lambda c: (
            last if c.dimension is None else variable.dimensions.index(c.dimension)
        ),
    )


def _coordinate(dataset: Dataset, coordinate: Coordinate) -> Plain:
    if coordinate.role == Role.TIME and dataset.time is not None:
        when = describe_times(dataset) or {}
        first, last, step = (when.get(key) for key in ("first", "last", "step"))
        units = f"{coordinate.variable.units} ({dataset.time.calendar})"
    else:
        shape = AxisShape.of(coordinate.values)
        first, last, step = shape.first, shape.last, shape.spacing
        units = coordinate.variable.units or ""
    return {
        "name": coordinate.name,
        "role": coordinate.role.value,
        "count": coordinate.values.size,
        "first": first,
        "last": last,
        "step": step,
        "units": units,
        "bounds": coordinate.bounds is not None,
    }


def _type_name(variable: Variable) -> str:
    return "text" if variable.data.dtype.kind not in "fiu" else variable.data.dtype.name


def _plain(value: Any) -> Any:
    """Return an attribute as a plain value."""
    if isinstance(value, np.ndarray):
        return [_plain(item) for item in (value if value.ndim else [value[()]])]
    if isinstance(value, np.floating):
        return _finite(shorten_number(value))
    value = value.item() if isinstance(value, np.generic) else value
    if isinstance(value, float):
        return _finite(value)
    if isinstance(value, (list, tuple)):
        return [_plain(item) for item in value]
    return value if isinstance(value, (str, int, bool, type(None))) else str(value)


def _temperature(variable: Variable) -> str | None:
    """Return whether temperatures are taken to be on their scale or differences, and what tells;
    None for other quantities."""
    reading = temperature_reading(variable)
    if reading is None:
        return None
    if reading.zero is Zero.UNCERTAIN:
        return f"on its scale, though {reading.because} may mean a difference"
    return (
        f"{reading.zero}, by its {reading.because}"
        if reading.because
        else str(reading.zero)
    )


def _finite(value: float) -> float | str | None:
    """Return a number that JSON can hold; what is not a number becomes nothing, infinity a word."""
    if value != value:
        return None
    return value if abs(value) != float("inf") else str(value)
