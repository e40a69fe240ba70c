"""Outlines of areas: countries, land and sea, and those in files."""

from __future__ import annotations

import json
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.errors import DataError, nearest_names, warn
from rhodolite.regions.coastlines import countries, land, within_any

LAND, SEA = "land", "sea"
_FEW_POINTS = 8
_SUFFIXES = (".geojson", ".json", ".shp")
_NAME_KEYS = ("name", "title", "label", "id")
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


@dataclass(frozen=True, eq=False)
class Outline:
    """A named area.

    Attributes
    ----------
    name : str
    shapes : ndarray of shapely polygons
        Parts of it that do not overlap, in degrees east and north; longitudes run on without a
        jump.
    outside : bool
        Whether the area is all that lies outside the shapes.
    """

    name: str
    shapes: NDArray[Any]
    outside: bool = False

    def holds(
        self, latitudes: NDArray[np.float64], longitudes: NDArray[np.float64]
    ) -> NDArray[np.bool_]:
        """Return which places, in degrees and of one shape, lie in the area; those that are NaN do
        not."""
        inside = within_any(self.shapes, longitudes, latitudes)
        return ~inside & np.isfinite(latitudes) if self.outside else inside


@cache
def country_names() -> dict[str, str]:
    """Return the full name of each country, in alphabetical order, with the name that it is stored
    under."""
    found = {_full_name(name): name for name in countries("50m")}
    return {name: found[name] for name in sorted(found, key=_plain)}


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
    found = lookup.get(_plain(asked))
    if found is None:
        hint = nearest_names(asked, [*names, LAND, SEA]).split(" There are:")[0]
        hint = f"{hint} " if hint.startswith("Did") else ""
        raise DataError(
            f"--region: no country '{asked}'. {hint}'rhodolite inspect --regions' lists all; an "
            "outline "
            "in a file is named as FILE.geojson or FILE.shp#FEATURE"
        )
    return [Outline(found, countries("50m")[names[found]])]


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
    read = _read_shapefile if path.suffix.lower() == ".shp" else _read_geojson
    features = read(path)
    if not features:
        raise DataError(f"{path}: there is no outline of an area in it")
    named = [
        (_feature_name(properties) or f"{path.stem} {at}", geometry)
        for at, (properties, geometry) in enumerate(features, 1)
    ]
    if len(named) == 1 and not _feature_name(features[0][0]):
        named = [(path.stem, named[0][1])]
    if feature:
        chosen = [
            one
            for at, one in enumerate(named, 1)
            if _plain(one[0]) == _plain(feature) or str(at) == feature
        ]
        if not chosen:
            raise DataError(
                f"{path}: no feature '{feature}'. "
                f"{nearest_names(feature, [name for name, _ in named])}"
            )
        named = chosen[:1]
    return [_outline(path, name, geometry) for name, geometry in named]


def _read_geojson(path: Path) -> list[tuple[dict[str, Any], dict[str, Any]]]:
    try:
        held = json.loads(path.read_text(encoding="utf-8-sig"))
    except (OSError, ValueError) as error:
        raise DataError(f"{path}: this is no GeoJSON: {error}") from None
    if not isinstance(held, dict) or "type" not in held:
        raise DataError(f"{path}: this is no GeoJSON: it has no member 'type'")
    features = held.get("features") if held["type"] == "FeatureCollection" else [held]
    found = []
    for one in features or ():
        geometry = one.get("geometry") if one.get("type") == "Feature" else one
        if geometry:
            found.append(
                (
                    {**(one.get("properties") or {}), **({"id": one["id"]} if "id" in one else {})},
                    geometry,
                )
            )
    return found


def _read_shapefile(path: Path) -> list[tuple[dict[str, Any], dict[str, Any]]]:
    import shapefile

    projection = path.with_suffix(".prj")
    if projection.exists() and projection.read_text(errors="replace").lstrip().upper().startswith(
        "PROJCS"
    ):
        raise DataError(
            f"{path}: its coordinates are those of a map projection ({projection.name}); turn it "
            "into "
            "longitude and latitude first"
        )
    try:
        with shapefile.Reader(str(path)) as reader:
            return [
                (record.record.as_dict() if record.record else {}, record.shape.__geo_interface__)
                for record in reader.iterShapeRecords()
            ]
    except (shapefile.ShapefileException, OSError, ValueError, UnicodeDecodeError) as error:
        raise DataError(f"{path}: this shapefile cannot be read: {error}") from None


def _feature_name(properties: dict[str, Any]) -> str:
    lowered = {str(key).lower(): value for key, value in properties.items()}
    for key in _NAME_KEYS:
        if str(lowered.get(key) or "").strip():
            return str(lowered[key]).strip()
    texts = [
        str(value).strip()
        for value in properties.values()
        if isinstance(value, str) and value.strip()
    ]
    return texts[0] if texts else ""


def _outline(path: Path, name: str, geometry: dict[str, Any]) -> Outline:
    """Return an outline made of the polygons of a GeoJSON geometry.

    Raises
    ------
    DataError
        If it has none, they cannot be mended, or they are not in degrees.
    """
    import shapely

    polygons = _polygons_of(geometry)
    if not polygons:
        raise DataError(
            f"{path}: {name} is a {geometry.get('type')}, and an area is given by a Polygon"
        )
    made = []
    for rings in polygons:
        try:
            arrays = [np.asarray(ring, dtype=np.float64)[:, :2] for ring in rings]
        except (ValueError, IndexError, TypeError):
            raise DataError(
                f"{path}: a ring of {name} holds something that is no position"
            ) from None
        made += _polygon(path, name, arrays)
    shapes = np.array(made, dtype=object)
    if (
        len(made) > 1 and not shapely.MultiPolygon(made).is_valid
    ):  # parts that overlap must not count twice
        shapes = _polygons_in(shapely.union_all(shapes))
    return Outline(name, shapes)


def unite_outlines(outlines: Sequence[Outline]) -> Outline:
    """Return the one area that several make up, so that what they share counts once."""
    import shapely

    if len(outlines) == 1:
        return outlines[0]
    inner, outer = (
        _union([one for one in outlines if one.outside == outside]) for outside in (False, True)
    )
    name = ", ".join(outline.name for outline in outlines)
    if not any(one.outside for one in outlines):
        return Outline(name, _polygons_in(inner))
    return Outline(name, _polygons_in(shapely.difference(outer, inner)), outside=True)


def _union(outlines: Sequence[Outline]) -> Any:
    """Return the union of outlines, all within -180 to 180 degrees east, where places are the same
    only once."""
    import shapely

    world, pieces = shapely.box(-180, -90, 180, 90), []
    for shape in [shape for outline in outlines for shape in outline.shapes]:
        west, _, east, _ = shape.bounds
        for turn in range(int(np.floor((west + 180) / 360)), int(np.floor((east + 180) / 360)) + 1):
            moved = shapely.transform(shape, lambda points, by=360.0 * turn: points - [by, 0.0])
            inside = world.bounds[0] <= moved.bounds[0] and moved.bounds[2] <= world.bounds[2]
            pieces.append(moved if inside else shapely.intersection(moved, world))
    return shapely.union_all(pieces)


def _polygons_in(shape: Any) -> NDArray[Any]:
    import shapely

    parts = [
        part for part in shapely.get_parts(shape) if part.geom_type == "Polygon" and part.area > 0
    ]
    return np.array(parts, dtype=object)


def _crosses_dateline(ring: NDArray[np.float64], *, shapefile: bool) -> bool:
    """Return whether a ring jumps from one side of the dateline to the other, and does not go the
    long way round.

    RFC 7946 has edges straight in degrees, and outlines across the dateline cut in two; many are
    not. An edge of more than 180 degrees is a jump where the ring has many points and all others of
    its edges are short, or where straight edges would turn it inside out (RFC 7946, 3.1.6: shells
    are counter-clockwise).
    """
    steps = np.diff(np.append(ring[:, 0], ring[:1, 0]))
    wide = np.abs(steps) > 180
    if not wide.any() or (np.abs(steps) > 360 - 1e-6).any():
        return False
    jumps, others = 360 - np.abs(steps[wide]), np.abs(steps[~wide])
    if len(ring) > _FEW_POINTS:
        return bool(jumps.max() <= max(3 * others.max(), 1.0) and others.max() < 90)
    x, y = ring.T
    twice = float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))
    return not shapefile and twice < 0


def _polygons_of(geometry: dict[str, Any]) -> list[Any]:
    kind, held = geometry.get("type"), geometry.get("coordinates")
    if kind == "Polygon":
        return [held]
    if kind == "MultiPolygon":
        return list(held or ())
    if kind == "GeometryCollection":
        return [polygon for one in geometry.get("geometries", ()) for polygon in _polygons_of(one)]
    return []


def _polygon(path: Path, name: str, rings: list[NDArray[np.float64]]) -> list[Any]:
    import shapely

    for ring in rings:
        if len(ring) < 3 or not np.isfinite(ring).all():
            raise DataError(
                f"{path}: a ring of {name} has fewer than three positions, or one that is no number"
            )
        if np.abs(ring[:, 1]).max() > 90 or np.abs(ring[:, 0]).max() > 540:
            raise DataError(
                f"{path}: {name} has coordinates such as {ring[0, 0]:g}, {ring[0, 1]:g}, which are "
                "no "
                "degrees; turn it into longitude and latitude first"
            )
        if _crosses_dateline(ring, shapefile=path.suffix.lower() == ".shp"):
            ring[:, 0] = np.unwrap(ring[:, 0], period=360.0)
    for ring in rings[1:]:  # holes lie where the shell does
        ring[:, 0] += 360.0 * np.round((rings[0][:, 0].mean() - ring[:, 0].mean()) / 360.0)
    shape = shapely.Polygon(rings[0], rings[1:])
    if not shape.is_valid:
        why = shapely.is_valid_reason(shape).partition("[")[0].lower()
        shape = shapely.make_valid(shape)
        warn(f"{path.name}: the outline of {name} is broken ({why}) and was mended")
    parts = [
        part for part in shapely.get_parts(shape) if part.geom_type == "Polygon" and part.area > 0
    ]
    if not parts:
        raise DataError(f"{path}: the outline of {name} encloses nothing")
    return parts


def _full_name(stored: str) -> str:
    return _FULL_NAMES.get(stored) or " ".join(_WORDS.get(word, word) for word in stored.split())


def _plain(text: str) -> str:
    """Return a name in small letters without accents, as people type it."""
    bare = unicodedata.normalize("NFKD", text)
    return "".join(c for c in bare if not unicodedata.combining(c)).strip().lower()
