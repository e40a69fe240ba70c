"""Outlines of areas: countries, land and sea, and those in files."""

from __future__ import annotations

import unicodedata
from collections.abc import Mapping
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.errors import DataError, nearest_names
from rhodolite.regions.coastlines import countries, land
from rhodolite.regions.geopackage import LAYER
from rhodolite.regions.outline_files import feature_name, read_outlines
from rhodolite.regions.outlined_area import Outline
from rhodolite.regions.polygons import polygon, polygons_in, polygons_of
from rhodolite.regions.projected_outlines import Feature

LAND, SEA = "land", "sea"
_SUFFIXES = (".geojson", ".json", ".topojson", ".shp", ".gpkg", ".kml", ".wkt")
_FULL_NAMES = {
    "S. Geo. and the Is.": "South Georgia and the Islands",
    "Fr. S. Antarctic Lands": "French Southern Antarctic Lands",
    "Dem. Rep. Congo": "Democratic Republic of the Congo",
    "eSwatini": "Eswatini",
}
_ALSO = {
    "United States of America": ("USA", "US", "United States", "America"),
    "United Kingdom": ("UK", "Great Britain", "Britain"),
    "Czechia": ("Czech Republic",),
    "Netherlands": ("Holland",),
    "United Arab Emirates": ("UAE",),
    "Macedonia": ("North Macedonia",),
    "Turkey": ("Turkiye", "Türkiye"),
    "Côte d'Ivoire": ("Ivory Coast",),
    "Cabo Verde": ("Cape Verde",),
    "Eswatini": ("Swaziland",),
    "Myanmar": ("Burma",),
    "Timor-Leste": ("East Timor",),
    "Democratic Republic of the Congo": ("DR Congo", "DRC"),
    "Vatican": ("Holy See",),
    "Bosnia and Herzegovina": ("Bosnia",),
    "Faeroe Islands": ("Faroe Islands",),
}
"""What else people call countries."""
_WORDS = {
    "S.": "South",
    "N.": "Northern",
    "W.": "Western",
    "Is.": "Islands",
    "I.": "Island",
    "Rep.": "Republic",
    "Eq.": "Equatorial",
    "Fr.": "French",
    "St.": "Saint",
    "Br.": "British",
    "Ter.": "Territory",
    "Herz.": "Herzegovina",
    "Barb.": "Barbuda",
    "Vin.": "Vincent",
    "Gren.": "Grenadines",
}


@cache
def country_names() -> dict[str, str]:
    """Return the full name of each country, in alphabetical order, with the name that it is stored
    under."""
    names = {_full_name(name): name for name in countries("50m")}
    return {name: names[name] for name in sorted(names, key=_plain)}


def find_outlines(text: str) -> list[Outline]:
    """Return the areas that a text names: a country, `land`, `sea`, `FILE` or `FILE#FEATURE`.

    Raises
    ------
    DataError
        If there is none of the name, or the file cannot be read.
    """
    asked = text.strip()
    if _plain(asked) in (LAND, SEA):
        return [Outline(_plain(asked), land("50m"), outside=_plain(asked) == SEA)]
    path = file_of_outline(asked)
    if path is not None:
        return _from_file(path, asked.partition("#")[2].strip())
    names = country_names()
    lookup = {
        _plain(key): full
        for full, stored in names.items()
        for key in (full, stored, *_ALSO.get(full, ()))
    }
    name = lookup.get(_plain(asked))
    if name is None:
        hint = nearest_names(asked, [*names, LAND, SEA]).split(" There are:")[0]
        hint = f"{hint} " if hint.startswith("Did") else ""
        raise DataError(
            f"--region: no country '{asked}'. {hint}'rhodolite inspect --regions' lists all; an "
            "outline in a file is named as FILE.geojson or FILE.shp#FEATURE"
        )
    return [Outline(name, countries("50m")[names[name]])]


def file_of_outline(text: str) -> Path | None:
    """Return the file that the text of an outline names; None where it is a shipped one."""
    asked = text.strip()
    path = Path(asked.partition("#")[0])
    if _plain(asked) in (LAND, SEA):
        return None
    return path if path.suffix.lower() in _SUFFIXES or path.exists() else None


def _from_file(path: Path, feature: str) -> list[Outline]:
    if not path.exists():
        raise DataError(f"--region: {path}: there is no such file")
    features = read_outlines(path)
    if not features:
        raise DataError(f"{path}: there is no outline of an area in it")
    features, feature = _of_one_layer(path, features, feature)
    named = [
        (feature_name(properties) or f"{path.stem} {at}", properties, geometry)
        for at, (properties, geometry) in enumerate(features, 1)
    ]
    if len(named) == 1 and not feature_name(features[0][0]):
        named = [(path.stem, *named[0][1:])]
    if feature:
        named = [_find_feature(path, named, feature)]
    return [
        replace(
            _outline(path, name, geometry), about=_plain_properties(properties, name)
        )
        for name, properties, geometry in named
    ]


def _of_one_layer(
    path: Path, features: list[Feature], feature: str
) -> tuple[list[Feature], str]:
    """Return the features of the layer that is named in place of a feature, and what is named
    besides; all of them where a file has no layers.

    Raises
    ------
    DataError
        If there are several layers, and nothing is named.
    """
    layers = list(
        dict.fromkeys(about[LAYER] for about, _ in features if LAYER in about)
    )
    if feature in layers:
        return [entry for entry in features if entry[0][LAYER] == feature], ""
    if len(layers) > 1 and not feature:
        raise DataError(
            f"{path}: there are several layers in it ({', '.join(layers)}); name one of them, or a "
            f"feature, as {path}#{layers[0]}"
        )
    return features, feature


def _find_feature(
    path: Path, named: list[tuple[str, dict[str, Any], dict[str, Any]]], feature: str
) -> tuple[str, dict[str, Any], dict[str, Any]]:
    """Return the first feature of a name, or of a number from 1.

    Raises
    ------
    DataError
        If there is none.
    """
    for at, entry in enumerate(named, 1):
        if _plain(entry[0]) == _plain(feature) or str(at) == feature:
            return entry
    names = [name for name, *_ in named]
    raise DataError(f"{path}: no feature '{feature}'. {nearest_names(feature, names)}")


def _plain_properties(properties: Mapping[str, Any], name: str) -> dict[str, Any]:
    """Return what is said of a feature in a text or a number, besides its name."""
    return {
        str(key): value
        for key, value in properties.items()
        if isinstance(value, (str, int, float))
        and not isinstance(value, bool)
        and str(value).strip() != name
    }


def _outline(path: Path, name: str, geometry: dict[str, Any]) -> Outline:
    """Return an outline made of the polygons of a GeoJSON geometry.

    Raises
    ------
    DataError
        If it has none, they cannot be repaired, or they are not in degrees.
    """
    import shapely

    polygons = polygons_of(geometry)
    if not all(isinstance(rings, (list, tuple)) and rings for rings in polygons):
        raise DataError(f"{path}: the coordinates of {name} are not lists of rings")
    if not polygons:
        raise DataError(
            f"{path}: {name} is a {geometry.get('type')}, and an area is given by a Polygon"
        )
    parts = []
    for rings in polygons:
        try:
            arrays = [np.asarray(ring, dtype=np.float64)[:, :2] for ring in rings]
        except (ValueError, IndexError, TypeError):
            raise DataError(
                f"{path}: a ring of {name} holds something that is not a position"
            ) from None
        parts += polygon(path, name, arrays)
    shapes = np.array(parts, dtype=object)
    if (
        len(parts) > 1 and not shapely.MultiPolygon(parts).is_valid
    ):  # parts that overlap must not count twice
        shapes = polygons_in(shapely.union_all(shapes))
    return Outline(name, shapes)


def _full_name(stored: str) -> str:
    return _FULL_NAMES.get(stored) or " ".join(
        _WORDS.get(word, word) for word in stored.split()
    )


def _plain(text: str) -> str:
    """Return a name in small letters without accents, as people type it."""
    bare = unicodedata.normalize("NFKD", text)
    return "".join(c for c in bare if not unicodedata.combining(c)).strip().lower()
