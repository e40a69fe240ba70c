"""Series, boxes and areas: OGC API - Environmental Data Retrieval 1.1 (OGC 19-086r5)."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import shapely

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.kernels.weighted_sums import weighted_sums
from rhodolite.server.api_description import MEDIA as MEDIA_API
from rhodolite.server.asked import (
    CRS84,
    EPSG_4326,
    box_asked,
    geometry_asked,
    has_latitude_first,
    heights_of_box,
    longitude_first,
)
from rhodolite.server.choosing import (
    Cells,
    areas_of,
    cells_in_area,
    cells_in_box,
    levels_named,
)
from rhodolite.server.coverages import (
    Part,
    coverage_of,
    describe_parameter,
    write_csv,
)
from rhodolite.server.downloads import MEDIA as MEDIA_NETCDF
from rhodolite.server.downloads import netcdf_of
from rhodolite.server.layers import Layer, layers_of
from rhodolite.server.limits import Refused
from rhodolite.server.served import Served

_BYTES_IN_TEXT = 10
"""Of a value, so that answers in text hold so much less than others."""
_CONFORMANCE = (
    "http://www.opengis.net/spec/ogcapi-common-1/1.0/conf/core",
    "http://www.opengis.net/spec/ogcapi-common-2/1.0/conf/collections",
    "http://www.opengis.net/spec/ogcapi-edr-1/1.1/conf/core",
    "http://www.opengis.net/spec/ogcapi-edr-1/1.1/conf/covjson",
    "http://www.opengis.net/spec/ogcapi-edr-1/1.1/conf/oas30",
)
_QUERIES = ("position", "area", "cube")
_REALIZATION = "http://vocab.nerc.ac.uk/standard_name/realization/"
_FORMATS = {"coveragejson": "CoverageJSON", "csv": "CSV", "netcdf": "NetCDF"}
MEDIA = "application/vnd.cov+json"


class Collection:
    """One dataset as a collection.

    Parameters
    ----------
    served : Served
    """

    def __init__(self, served: Served) -> None:
        self.served = served
        self.layers = layers_of(served)

    def describe(self, address: str) -> dict[str, Any]:
        """Return what the collection holds, and how it is asked.

        Parameters
        ----------
        address : str
            Of the service.
        """
        own = f"{address}/collections/{self.served.name}"
        first = next(iter(self.layers.values()), None)
        return {
            "id": self.served.name,
            "title": self.served.title,
            "description": str(self.served.dataset.attributes.get("summary", ""))
            or self.served.title,
            "extent": {} if first is None else _extent_of(first),
            "crs": [CRS84, EPSG_4326],
            "output_formats": list(_FORMATS.values()),
            "links": [_link(own, "self"), _link(own, "data")],
            "data_queries": {name: _describe_query(own, name) for name in _QUERIES},
            "parameter_names": {
                name: describe_parameter(layer, str)
                for name, layer in self.layers.items()
            },
        }

    def query(self, kind: str, asked: Mapping[str, str]) -> tuple[bytes, str]:
        """Return the answer to a query, and its media type.

        Parameters
        ----------
        kind : str
            ``position``, ``area`` or ``cube``.
        asked : mapping of str to str
            Parameters of the request.

        Raises
        ------
        Refused
            If it cannot be answered.
        """
        given = _format_asked(kind, asked)
        turned = has_latitude_first(asked)
        asked = longitude_first(asked) if turned else dict(asked)
        if kind == "cube" and "z" not in asked and (heights := heights_of_box(asked)):
            asked["z"] = heights
        chosen = self._chosen(asked)
        if given == "netcdf" and chosen:
            return netcdf_of(kind, chosen, asked), MEDIA_NETCDF
        mean = asked.get("over") == "area" and kind != "position"
        parts, values = self._read_all(kind, chosen, asked, mean=mean)
        if given == "csv":
            return write_csv(parts, values, mean).encode(), "text/csv"
        content = coverage_of(parts, values, mean=mean, latitude_first=turned)
        return json.dumps(content, allow_nan=False).encode(), MEDIA

    def _read_all(
        self, kind: str, chosen: list[Layer], asked: Mapping[str, str], *, mean: bool
    ) -> tuple[list[Part], list[Array]]:
        """Return the parts that a query asks for, and their values."""
        parts = [part for layer in chosen for part in _parts(kind, layer, asked)]
        self._need_few(parts)
        if mean:
            _need_quantities(parts)
        return parts, [_read(part, mean=mean) for part in parts]

    def _need_few(self, parts: list[Part]) -> None:
        size = sum(part.size for part in parts)
        most = self.served.gate.limits.cells // _BYTES_IN_TEXT
        if size > most:
            raise Refused(
                413, f"{size:,} values are asked for, and an answer holds {most:,}"
            )

    def _chosen(self, asked: Mapping[str, str]) -> list[Layer]:
        names = asked.get("parameter-name", "")
        asked_for = [name.strip() for name in names.split(",")]
        chosen = list(dict.fromkeys(asked_for)) if names else list(self.layers)
        for name in chosen:
            if name not in self.layers:
                there = ", ".join(self.layers) or "none"
                raise Refused(
                    400, f"parameter-name: there is no '{name}'; there are {there}"
                )
        return [self._as_asked(self.layers[name], asked) for name in chosen]

    def _as_asked(self, layer: Layer, asked: Mapping[str, str]) -> Layer:
        """Return a layer of the member and in the units that are asked for."""
        member, units = asked.get("member", ""), asked.get("units", "")
        if layer.members and not member:
            there = ", ".join(layer.members)
            raise Refused(
                400,
                f"member: of which is {layer.variable.name} wanted? There are {there}",
            )
        try:
            layer = layer.of_member(member) if layer.members else layer
        except DataError as error:
            raise Refused(404, f"member: {error}") from None
        try:
            return layer.in_units(units) if units else layer
        except DataError as error:
            raise Refused(400, f"units: {error}") from None


def landing(address: str) -> dict[str, Any]:
    """Return the landing page of the service."""
    return {
        "title": "Datasets",
        "description": "Series, boxes and areas of gridded data",
        "links": [
            *links_of(address),
            _link(f"{address}/conformance", "conformance"),
            _link(f"{address}/collections", "data"),
        ],
    }


def links_of(address: str, page: str = "") -> list[dict[str, str]]:
    """Return the links that every page has: to itself, and to the description of the API.

    Parameters
    ----------
    address : str
        Of the service.
    page : str
        What follows it.
    """
    api = {"href": f"{address}/api", "rel": "service-desc", "type": MEDIA_API}
    return [_link(address + page, "self"), api]


def conformance() -> dict[str, Any]:
    """Return the parts of the standard that are followed."""
    return {"conformsTo": list(_CONFORMANCE)}


def _link(href: str, rel: str) -> dict[str, str]:
    return {"href": href, "rel": rel, "type": "application/json"}


def _parts(kind: str, layer: Layer, asked: Mapping[str, str]) -> list[Part]:
    """Return what a query asks of a layer, of several places one by one."""
    steps, levels = (
        _steps(layer, asked.get("datetime")),
        levels_named(layer, asked.get("z")),
    )
    cells = {"position": _positions, "area": _area, "cube": _cube}[kind](layer, asked)
    return [
        Part(layer, rows, columns, steps, levels, parts)
        for rows, columns, parts in cells
    ]


def _positions(layer: Layer, asked: Mapping[str, str]) -> list[Cells]:
    cells: list[Cells] = []
    for point in shapely.get_parts(geometry_asked(asked, "POINT")):
        cell = layer.grid.cell_at(point.y, point.x)
        if cell is None:
            raise Refused(
                404, f"no cell of {layer.variable.name} lies at {point.x:g} {point.y:g}"
            )
        cells.append((np.array([cell[0]]), np.array([cell[1]]), None))
    return cells


def _area(layer: Layer, asked: Mapping[str, str]) -> list[Cells]:
    polygon = geometry_asked(asked, "POLYGON")
    return [cells_in_area(layer, polygon, parts_of_cells=asked.get("over") == "area")]


def _cube(layer: Layer, asked: Mapping[str, str]) -> list[Cells]:
    return [cells_in_box(layer, *box_asked(asked))]


def _steps(layer: Layer, text: str | None) -> Array:
    if layer.time is None:
        return np.zeros(1, int)
    if not text:
        return np.arange(len(layer.time))
    return layer.steps(text)


def _need_quantities(parts: Sequence[Part]) -> None:
    """Refuse means of classes."""
    classes = [part.layer for part in parts if part.layer.classes is not None]
    if classes:
        raise Refused(
            400,
            f"{classes[0].variable.name} holds classes, of which there is no mean; ask for its "
            "cells, without over=area",
        )


def _read(part: Part, *, mean: bool) -> Array:
    """Return values of shape (steps, levels, rows, columns), or (steps, levels) of means over the
    area, weighted by what of each cell counts."""
    layer = part.layer
    values = layer.read_part(part.steps, part.levels, part.rows, part.columns)
    if not mean:
        return (
            values if part.parts is None else np.where(part.parts > 0, values, np.nan)
        )
    area = areas_of(layer, part.rows, part.columns, part.parts)
    total, weight = weighted_sums(values, {(2, 3): area}, (2, 3))
    mean_of = np.full(total.shape, np.nan)
    np.divide(total, weight, out=mean_of, where=weight > 0)
    return mean_of


def _extent_of(layer: Layer) -> dict[str, Any]:
    """Return what a layer covers: places, times, levels and members."""
    extent: dict[str, Any] = {
        "spatial": {"bbox": [list(layer.grid.extent)], "crs": CRS84}
    }
    if layer.moments:
        extent["temporal"] = {
            "interval": [[layer.moments[0], layer.moments[-1]]],
            "values": layer.moments,
            "trs": 'TIMECRS["Gregorian"]',
        }
    if layer.levels is not None:
        texts = layer.level_texts
        extent["vertical"] = {
            "interval": [[texts[at(layer.levels)] for at in (np.argmin, np.argmax)]],
            "values": texts,
            "vrs": "native",
        }
    if layer.members:
        members = {
            "id": "member",
            "interval": [[layer.members[0], layer.members[-1]]],
            "values": list(layer.members),
            "reference": _REALIZATION,
        }
        extent["custom"] = [members]
    return extent


def _describe_query(address: str, name: str) -> dict[str, Any]:
    variables = {
        "query_type": name,
        "output_formats": list(_FORMATS.values()),
        "default_output_format": "CoverageJSON",
    }
    link = {"href": f"{address}/{name}", "rel": "data", "variables": variables}
    return {"link": link}


def _format_asked(kind: str, asked: Mapping[str, str]) -> str:
    """Return the format that a query asks for, in small letters.

    Raises
    ------
    Refused
        If there is no such query, or no such format.
    """
    if kind not in _QUERIES:
        there = ", ".join(_QUERIES)
        raise Refused(404, f"there is no query '{kind}'; there are {there}")
    given = asked.get("f", "CoverageJSON")
    if given.lower() not in _FORMATS:
        raise Refused(400, f"f={given[:40]}: there are {', '.join(_FORMATS.values())}")
    return given.lower()
