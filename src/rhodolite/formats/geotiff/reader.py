"""Opening GeoTIFF files: coordinates and metadata now, values when they are needed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.errors import DataError
from rhodolite.formats.cf.decode import Decoding, decode_variable
from rhodolite.formats.geotiff.bands import (
    Band,
    BandGroup,
    attributes_of,
    group_bands,
)
from rhodolite.formats.geotiff.georeference import Georeference, read_georeference
from rhodolite.formats.geotiff.library import library, open_file
from rhodolite.formats.geotiff.values import BandsArray
from rhodolite.limits import why_beyond_reading
from rhodolite.model.cf.vocabulary import STORAGE_ATTRIBUTES
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.variable import Variable

_DESCRIBING_TAGS = ("units", "standard_name", "long_name", "cell_methods", "comment")
_GLOBAL = "NC_GLOBAL"


def read(path: Path) -> Dataset:
    """Open a GeoTIFF as a dataset.

    Raises
    ------
    DataError
        If it is damaged, turned against its axes, or holds complex numbers.
    """
    with open_file(path) as file:
        place = read_georeference(path, file)
        bands = [
            Band(number, file.descriptions[number - 1], file.tags(number))
            for number in range(1, file.count + 1)
        ]
        file_tags = file.tags()
        groups = group_bands(bands, file_tags, path.stem)
        variables = [_variable(path, file, group, place, file_tags) for group in groups]
    coordinates = {c.name: c for group in groups for c in group.coordinates}
    named = {v.name: v for v in place.coordinates} | coordinates
    named |= {v.name: v for v in variables}
    source = SourceFile(path, "GeoTIFF", path.stat().st_size)
    return Dataset(named, attributes_of(_GLOBAL, file_tags), frozenset(), (source,))


def _variable(
    path: Path,
    file: Any,
    group: BandGroup,
    place: Georeference,
    file_tags: dict[str, str],
) -> Variable:
    at = int(group.numbers.flat[0]) - 1
    dtype = np.dtype(file.dtypes[at])
    if dtype.kind not in "fiu":
        raise DataError(f"{path}: bands of complex numbers are not read")
    _check_size(path, file, group)
    cells = file.height, file.width
    flags = file.mask_flag_enums[at]
    masks = library().enums.MaskFlags
    masked = masks.per_dataset in flags or masks.alpha in flags
    stored = _stored_attributes(file, at, dtype)
    about = {**attributes_of(group.name, file_tags), **_band_attributes(file, at)}
    about = {key: text for key, text in about.items() if key not in STORAGE_ATTRIBUTES}
    return decode_variable(
        group.name,
        (*group.dimensions, *place.dimensions),
        {**about, **place.attributes, **stored},
        Decoding.of(dtype, stored, usual_fill=False),
        lambda decoding: BandsArray(
            path, group.numbers, cells, file.block_shapes[at], decoding, masked
        ),
        chunks=None,
        filters=(str(file.compression.value).lower(),) if file.compression else (),
    )


def _check_size(path: Path, file: Any, group: BandGroup) -> None:
    shape = (group.numbers.size, file.height, file.width)
    beyond = why_beyond_reading(f"{path}: {group.name}", shape, 1, path.stat().st_size)
    if beyond is not None:
        raise DataError(beyond)


def _stored_attributes(file: Any, at: int, dtype: np.dtype[Any]) -> dict[str, Any]:
    """Return mark, scale and offset of a band, as attributes of CF."""
    marked: dict[str, Any] = {}
    mark = file.nodatavals[at]
    if mark is not None and not np.isnan(mark):
        fits = dtype.kind == "f" or np.iinfo(dtype).min <= mark <= np.iinfo(dtype).max
        marked |= {"_FillValue": dtype.type(mark)} if fits else {}
    scale, offset = file.scales[at], file.offsets[at]
    if (scale, offset) != (1.0, 0.0):
        marked |= {"scale_factor": np.float64(scale), "add_offset": np.float64(offset)}
    return marked


def _band_attributes(file: Any, at: int) -> dict[str, str]:
    tags = file.tags(at + 1)
    about = {key: tags[key] for key in _DESCRIBING_TAGS if key in tags}
    units = file.units[at]
    return about | ({"units": units} if units else {})
