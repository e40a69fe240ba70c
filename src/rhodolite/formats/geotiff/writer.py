"""Writing GeoTIFF: the maps of a variable as bands, in tiles, with overviews."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.formats.cf.encode import Encoding, encoding_for
from rhodolite.formats.geotiff.bands import NAME_TAG, ORDER_TAG, PLACE_TAG
from rhodolite.formats.geotiff.georeference import Placement, place_of, system_of
from rhodolite.formats.geotiff.library import library
from rhodolite.formats.layout import Compression, Layout
from rhodolite.formats.whole_maps import iterate_maps
from rhodolite.model.axes import Role
from rhodolite.model.cf.vocabulary import REFERENCES
from rhodolite.model.dataset import Dataset
from rhodolite.model.labels import labels_along
from rhodolite.model.time.time_labels import whole_labels
from rhodolite.model.variable import Variable

_MOST_BANDS = 65_535
_TILE = 512
_HALF_WORLD = 180.0
_LEVELS = {Compression.FAST: 1, Compression.SMALL: 9}


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:
    """Write the one variable of a dataset, each of its maps as a band.

    Raises
    ------
    UsageError
        If the dataset has several variables.
    DataError
        If its grid is uneven or unknown, or it has more maps than a file can have bands.
    """
    variable = _only_variable(dataset, path)
    space, place = place_of(dataset, variable)
    others = [name for name in variable.dimensions if name not in space]
    count = int(np.prod([dataset.lengths[name] for name in others]))
    if count > _MOST_BANDS:
        raise DataError(
            f"{path.name}: {variable.name} has {count:,} maps, and a GeoTIFF at most "
            f"{_MOST_BANDS:,} bands; give each year a file: -o '{path.stem}_{{year}}{path.suffix}'"
        )
    encoding = encoding_for(variable, dataset, engine)
    with tempfile.TemporaryDirectory(prefix="rhodolite-") as folder:
        # Tiles with overviews can only be copied from a picture that is whole.
        plain = Path(folder) / "plain.tif"
        profile = _profile(dataset, variable, place, encoding)
        with library().open(plain, "w", count=count, **profile) as file:
            _describe(file, dataset, variable, others, encoding)
            _write_bands(file, dataset, variable, space, place, encoding, engine)
        with library().open(plain, "r+") as file:
            _add_overviews(file, variable)
        _copy_in_order(plain, path, layout)


def _only_variable(dataset: Dataset, path: Path) -> Variable:
    fields = dataset.fields
    if len(fields) == 1:
        return fields[0]
    if not fields:
        raise DataError(f"{path.name}: there is no variable to write")
    names = ", ".join(field.name for field in fields)
    raise UsageError(
        f"{path.name}: a GeoTIFF holds one variable, and there are {names}; choose one with subset "
        f"--variable, or give each a file: -o '{path.stem}_{{variable}}{path.suffix}'"
    )


def _profile(
    dataset: Dataset, variable: Variable, place: Placement, encoding: Encoding
) -> dict[str, Any]:
    degrees = dataset.axes.by_role.keys() >= {"latitude", "longitude"}
    right = place.left + place.columns * place.width
    if degrees and right > _HALF_WORLD + place.width:
        warn(
            f"longitudes run to {right:g}, which a GIS draws east of its map of the world; "
            "subset --lon -180..180 first puts them around Greenwich"
        )
    # Rows run from north to south, whatever the data have.
    top = max(place.top, place.top + place.rows * place.height)
    transform = library().transform.from_origin(
        place.left, top, place.width, abs(place.height)
    )
    # A GIS knows without being told that what is no number is missing.
    fill = np.nan if encoding.dtype.kind == "f" else encoding.fill
    return {
        "driver": "GTiff",
        "width": place.columns,
        "height": place.rows,
        "dtype": encoding.dtype.name,
        "nodata": None if fill is None else float(fill),
        "crs": system_of(dataset, variable, degrees),
        "transform": transform,
        "tiled": True,
        "blockxsize": _TILE,
        "blockysize": _TILE,
        "interleave": "band",
        "bigtiff": "IF_SAFER",
    }


def _describe(
    file: Any,
    dataset: Dataset,
    variable: Variable,
    others: list[str],
    encoding: Encoding,
) -> None:
    """Write what the bands are of, as tags and as what a GIS shows of them."""
    _describe_bands(file, dataset, variable, others)
    if encoding.packing is not None:
        file.scales = [encoding.packing.scale] * file.count
        file.offsets = [encoding.packing.offset] * file.count
    described = {variable.name: variable}
    described |= {n: dataset.variables[n] for n in others if n in dataset.variables}
    tags = {
        f"{name}#{key}": str(value)
        for name, about in described.items()
        for key, value in about.attributes.items()
        if key not in REFERENCES
    }
    tags |= {f"NC_GLOBAL#{key}": str(text) for key, text in dataset.attributes.items()}
    if others:
        tags[ORDER_TAG] = f"{{{','.join(others)}}}"
    file.update_tags(**tags)


def _describe_bands(
    file: Any, dataset: Dataset, variable: Variable, others: list[str]
) -> None:
    """Write the time and level of each band, as numbers and as words."""
    labels = {name: _labels_along(dataset, name) for name in others}
    numbers = {name: _numbers_along(dataset, name) for name in others}
    exact = _instants_along(dataset)
    for band, at in enumerate(np.ndindex(*map(len, labels.values())), start=1):
        places = {name: labels[name][n] for name, n in zip(others, at, strict=True)}
        tags = {
            f"{PLACE_TAG}{name}": numbers[name][n]
            for name, n in zip(others, at, strict=True)
        }
        tags |= {name: text for name, text in places.items() if name != exact}
        file.update_tags(band, **{NAME_TAG: variable.name}, **tags)
        file.set_band_description(band, " ".join(places.values()) or variable.name)
        file.set_band_unit(band, variable.units or "")


def _instants_along(dataset: Dataset) -> str | None:
    """Return the dimension of times without cells, of which their numbers tell all: a label, such
    as a date, would be read as what it covers."""
    time = dataset.coordinate(Role.TIME)
    if time is None or dataset.need_time().bounds is not None:
        return None
    return time.dimension


def _labels_along(dataset: Dataset, dimension: str) -> list[str]:
    """Return what people call the places along a dimension, so that it can be read again."""
    time = dataset.coordinate(Role.TIME)
    if time is not None and time.dimension == dimension:
        return whole_labels(dataset.need_time())
    return labels_along(dataset, dimension)


def _numbers_along(dataset: Dataset, dimension: str) -> list[str]:
    """Return the coordinates of a dimension, exactly; numbers from 0 where it has none."""
    axis = dataset.variables.get(dimension)
    if axis is None or axis.data.dtype.kind not in "fiu":
        return [str(n) for n in range(dataset.lengths[dimension])]
    return [repr(number) for number in axis.values().tolist()]


def _write_bands(
    file: Any,
    dataset: Dataset,
    variable: Variable,
    space: tuple[str, str],
    place: Placement,
    encoding: Encoding,
    engine: Engine,
) -> None:
    others = [name for name in variable.dimensions if name not in space]
    lengths = [dataset.lengths[name] for name in others]
    northward = place.height > 0
    for where, values in iterate_maps(variable, space, engine):
        at = np.ravel_multi_index([where[n] for n in others], lengths) if others else 0
        numbers: Array = values.astype(encoding.dtype, copy=False)
        if encoding.dtype.kind != "f":
            numbers = encoding.encode(values)
        file.write(numbers[::-1] if northward else numbers, int(at) + 1)


def _add_overviews(file: Any, variable: Variable) -> None:
    """Add the picture at a half, a quarter and so on of its size, until it fits into a tile."""
    size = max(file.width, file.height)
    factors: list[int] = []
    while size > _TILE:
        size = -(-size // 2)
        factors.append(2 ** (len(factors) + 1))
    resampling = library().enums.Resampling
    if factors:
        file.build_overviews(
            factors, resampling.nearest if variable.classes else resampling.average
        )


def _copy_in_order(plain: Path, path: Path, layout: Layout) -> None:
    """Write a picture again in the order in which parts of it are fetched over a network: what
    describes it first, then the smallest overview, and each band by itself."""
    settings = {"COMPRESS": "NONE"}
    if layout.compression is not Compression.NONE:
        level = str(_LEVELS[layout.compression])
        settings = {"COMPRESS": "DEFLATE", "ZLEVEL": level}
    library().shutil.copy(
        plain,
        path,
        driver="GTiff",
        COPY_SRC_OVERVIEWS="YES",
        TILED="YES",
        BLOCKXSIZE=_TILE,
        BLOCKYSIZE=_TILE,
        INTERLEAVE="BAND",
        BIGTIFF="IF_SAFER",
        NUM_THREADS="ALL_CPUS",
        **settings,
    )
