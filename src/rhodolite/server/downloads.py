"""Parts of a dataset to take home: NetCDF files, made by the verbs of the command line."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import member_dimension
from rhodolite.model.indexing import take
from rhodolite.model.space.cell_lists import as_list
from rhodolite.model.space.range_text import LatitudeRange, LongitudeRange, Position
from rhodolite.operations.convert import Convert, Units
from rhodolite.operations.parameters.regions import Regions
from rhodolite.operations.selection.indices import take_steps
from rhodolite.operations.subset import Subset
from rhodolite.operations.summarise import Summarise
from rhodolite.pipeline.provenance import Origin
from rhodolite.pipeline.writing import write
from rhodolite.server.asked import box_asked, geometry_asked
from rhodolite.server.choosing import levels_named
from rhodolite.server.layers import Layer
from rhodolite.server.limits import Refused

MEDIA = "application/x-netcdf"


def netcdf_of(kind: str, layers: list[Layer], asked: Mapping[str, str]) -> bytes:
    """Return a file with the part of a dataset that a query asks for.

    Parameters
    ----------
    kind : str
        ``position``, ``area`` or ``cube``.
    layers : list of Layer
        The variables that are asked for.
    asked : mapping of str to str
        Parameters of the request.

    Raises
    ------
    Refused
        If there is no such part, or it is too large.
    """
    served = layers[0].served
    part = _along_others(layers, asked)
    units = asked.get("units")
    if units and any(variable.units != units for variable in part.fields):
        part = Convert(units=Units.parse(units))(part)
    try:
        part = _in_space(part, kind, asked)
    except DataError as error:
        raise Refused(404, str(error).partition(": ")[2] or str(error)) from None
    if asked.get("over") == "area" and kind != "position":
        part = Summarise()(part)
    size = sum(variable.data.size for variable in part.fields)
    if size > served.gate.limits.cells:
        raise Refused(
            413,
            f"{size:,} values are asked for, and a file holds {served.gate.limits.cells:,}",
        )
    with (
        tempfile.TemporaryDirectory(prefix="rhodolite-") as folder,
        served.gate.clock().working(),
    ):
        place = Path(folder) / "part.nc"
        # The record names the dataset as it is called here, and not where its files lie.
        write(part, place, engine=served.engine, origin=Origin((served.name,)))
        return place.read_bytes()


def _along_others(layers: list[Layer], asked: Mapping[str, str]) -> Dataset:
    """Return the variables that are asked for, at the times and levels that are."""
    first = layers[0]
    names = tuple(layer.variable.name for layer in layers)
    part = as_list(Subset(variable=names)(first.served.dataset))
    if first.members:
        along = member_dimension(part)
        part = take(part, {along: np.array([first.members.index(first.member)])})
    time, height = asked.get("datetime"), asked.get("z")
    if first.levels is not None and height:
        name = str(part.need(Role.LEVEL).dimension)
        part = take(part, {name: levels_named(first, height)})
    if first.time is not None and time:
        part = take_steps(part, np.sort(first.steps(time)))
    return part


def _in_space(part: Dataset, kind: str, asked: Mapping[str, str]) -> Dataset:
    if kind == "cube":
        west, south, east, north = box_asked(asked)
        return Subset(lat=LatitudeRange(south, north), lon=LongitudeRange(west, east))(
            part
        )
    shape = geometry_asked(asked, "POLYGON" if kind == "area" else "POINT")
    if kind == "area":
        return Subset(region=Regions.of(shape))(part)
    if shape.geom_type != "Point":
        raise Refused(
            400, "a file holds one position; ask for several in other formats"
        )
    return Subset(at=Position(shape.y, shape.x))(part)
