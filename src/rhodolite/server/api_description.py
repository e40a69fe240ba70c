"""What the web API offers, as OpenAPI 3.0 describes it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rhodolite.version import __version__

MEDIA = "application/vnd.oai.openapi+json;version=3.0"
_PARAMETERS: dict[str, tuple[str, bool, str]] = {
    "coords": (
        "a place in well-known text, longitude first (CRS84)",
        True,
        "POINT(10.5 60)",
    ),
    "bbox": (
        "west,south,east,north, or west,south,low,east,north,high",
        True,
        "0,50,20,70",
    ),
    "datetime": (
        "a moment, a day, month or year, or an interval of them",
        False,
        "2018/2019",
    ),
    "z": ("a level, several with commas, or two with a slash", False, "500"),
    "parameter-name": ("names of variables, with commas", False, "tas"),
    "over": ("area for the mean over it", False, "area"),
    "member": ("a member of an ensemble, where there is one", False, "1"),
    "units": ("UDUNITS units that values are wanted in", False, "degC"),
    "crs": (
        "the system of positions: CRS84, or EPSG:4326 with latitude first",
        False,
        "CRS84",
    ),
    "f": ("CoverageJSON, CSV or NetCDF", False, "CSV"),
}
_OF_ALL = ("datetime", "z", "parameter-name", "member", "units", "crs", "f")
_OF_QUERY = {
    "position": ("coords", *_OF_ALL),
    "area": ("coords", "over", *_OF_ALL),
    "cube": ("bbox", "over", *_OF_ALL),
}
_ANSWERS = ("application/vnd.cov+json", "text/csv", "application/x-netcdf")


def describe_api(address: str, names: Sequence[str]) -> dict[str, Any]:
    """Return the description.

    Parameters
    ----------
    address : str
        Of the service.
    names : sequence of str
        Of the collections.
    """
    collection = {
        "name": "collectionId",
        "in": "path",
        "required": True,
        "schema": {"type": "string", "enum": list(names)},
    }
    paths: dict[str, Any] = {
        "/": _operation("landing", "Where everything is"),
        "/conformance": _operation(
            "conformance", "Which parts of the standard are followed"
        ),
        "/api": _operation("api", "This description"),
        "/collections": _operation("collections", "The datasets"),
        "/collections/{collectionId}": _operation(
            "collection", "One dataset", [collection]
        ),
    }
    for query, parameters in _OF_QUERY.items():
        given = [collection, *map(_parameter, parameters)]
        if query == "area":
            given[1] |= {"example": "POLYGON((-10 30,90 30,90 75,-10 75,-10 30))"}
        path = f"/collections/{{collectionId}}/{query}"
        paths[path] = _operation(query, f"Values of a {query}", given, _ANSWERS)
    return {
        "openapi": "3.0.3",
        "info": {"title": "Datasets", "version": __version__},
        "servers": [{"url": address}],
        "paths": paths,
    }


def _parameter(name: str) -> dict[str, Any]:
    about, required, example = _PARAMETERS[name]
    return {
        "name": name,
        "in": "query",
        "required": required,
        "description": about,
        "example": example,
        "schema": {"type": "string"},
    }


def _operation(
    name: str,
    summary: str,
    parameters: Sequence[dict[str, Any]] = (),
    media: Sequence[str] = ("application/json",),
) -> dict[str, Any]:
    content: dict[str, Any] = {kind: {"schema": {}} for kind in media}
    problem = {"application/problem+json": {"schema": {"type": "object"}}}
    responses = {
        "200": {"description": "the answer", "content": content},
        "default": {"description": "why there is none", "content": problem},
    }
    operation: dict[str, Any] = {
        "operationId": name,
        "summary": summary,
        "responses": responses,
    }
    if parameters:
        operation["parameters"] = list(parameters)
    return {"get": operation}
