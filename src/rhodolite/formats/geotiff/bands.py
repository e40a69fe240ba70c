"""What the bands of a GeoTIFF are of: times, levels and members of one variable, or variables of
their own, as names and tags say.

Tags are named as those are that general tools write beside bands made from NetCDF:
`NETCDF_VARNAME`, `NETCDF_DIM_time` of a band, and `time#units`, `tas#standard_name` of the file.
Beside them stands what people call a place, such as a month: `time`.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.formats.text.dates import parse_date, time_variables
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.variable import Variable
from rhodolite.plain_text import is_number

NAME_TAG, PLACE_TAG = "NETCDF_VARNAME", "NETCDF_DIM_"
ORDER_TAG = "NETCDF_DIM_EXTRA"
"""Of the file: names of the dimensions in order, the slowest first."""
_DATE_IN_NAME = re.compile(
    r"(?<!\d)((?:1[89]|20|21)\d\d)(?:[-_]?(0[1-9]|1[0-2])(?:[-_]?(0[1-9]|[12]\d|3[01]))?)?(?!\d)"
)
"""A year of our time, and after it a month and a day, with nothing or a sign between."""


@dataclass(frozen=True)
class Band:
    """What a file says of one band.

    Parameters
    ----------
    number : int
        From 1.
    description : str or None
    tags : mapping of str
    """

    number: int
    description: str | None
    tags: Mapping[str, str]


@dataclass(frozen=True)
class BandGroup:
    """Bands that are one variable.

    Parameters
    ----------
    name : str
    numbers : ndarray of int
        Number of the band at each place along the dimensions.
    dimensions : tuple of str
    coordinates : list of Variable
        Along these dimensions.
    """

    name: str
    numbers: Array
    dimensions: tuple[str, ...]
    coordinates: list[Variable]


def group_bands(
    bands: Sequence[Band], file_tags: Mapping[str, str], stem: str
) -> list[BandGroup]:
    """Return which bands are of one variable.

    Parameters
    ----------
    bands : sequence of Band
    file_tags : mapping of str
    stem : str
        Of the file's name, after which a variable is called that has no name of its own.
    """
    own_name = bands[0].tags.get(NAME_TAG)
    name = own_name or plain_name(stem)
    placed = _by_places(name, bands, file_tags) or _by_dates(name, bands)
    if placed is not None:
        return [placed]
    if len(bands) == 1:
        single = own_name or plain_name(bands[0].description or stem)
        return [_of_one_time(single, stem)]
    return _by_names(bands) or [_by_numbers(name, bands)]


def _by_names(bands: Sequence[Band]) -> list[BandGroup]:
    """Return each band as a variable of its own; none where not each has a name of its own."""
    names = [plain_name(band.description or "") for band in bands]
    if not all(names) or len(set(names)) < len(bands):
        return []
    named = zip(names, bands, strict=True)
    return [BandGroup(own, np.array(band.number), (), []) for own, band in named]


def _by_numbers(name: str, bands: Sequence[Band]) -> BandGroup:
    """Return bands of which nothing else is known along their numbers."""
    numbers = np.array([band.number for band in bands])
    about = {"long_name": "number of the band"}
    axis = Variable("band", ("band",), InMemory(numbers), about)
    return BandGroup(name, numbers, ("band",), [axis])


def _by_dates(name: str, bands: Sequence[Band]) -> BandGroup | None:
    """Return bands as the times of a variable; None where one of them is called by no date."""
    dates = [parse_date(band.description or "") for band in bands]
    known = [date for date in dates if date is not None]
    if len(known) < len(bands):
        return None
    numbers = np.array([band.number for band in bands])
    return BandGroup(name, numbers, ("time",), time_variables(known))


def _of_one_time(name: str, stem: str) -> BandGroup:
    """Return a single band; along time, where the name of the file holds one date."""
    dates = _DATE_IN_NAME.findall(stem)
    if len(dates) != 1:
        return BandGroup(name, np.array(1), (), [])
    date = parse_date("-".join(part for part in dates[0] if part))
    if date is None:
        return BandGroup(name, np.array(1), (), [])
    return BandGroup(
        plain_name(_DATE_IN_NAME.sub("", name)) or name,
        np.array([1]),
        ("time",),
        time_variables([date]),
    )


def _by_places(
    name: str, bands: Sequence[Band], file_tags: Mapping[str, str]
) -> BandGroup | None:
    """Return bands as a variable along the dimensions that their tags name; None where they name
    none, do not fill them, or two name one place."""
    dimensions = _dimensions(bands[0], file_tags)
    columns = [
        [band.tags.get(f"{PLACE_TAG}{dimension}", "") for band in bands]
        for dimension in dimensions
    ]
    if not dimensions or any("" in column for column in columns):
        return None
    along = [list(dict.fromkeys(column)) for column in columns]
    numbers = _numbers_by_place(bands, columns, along)
    if numbers is None:
        return None
    coordinates: list[Variable] = []
    for dimension, column, values in zip(dimensions, columns, along, strict=True):
        firsts = [column.index(text) for text in values]
        labels = [bands[n].tags.get(dimension, column[n]) for n in firsts]
        coordinates += _axis(dimension, labels, values, file_tags)
    return BandGroup(name, numbers, tuple(dimensions), coordinates)


def _numbers_by_place(
    bands: Sequence[Band], columns: list[list[str]], along: list[list[str]]
) -> Array | None:
    """Return the number of the band at each place, whose texts stand in `columns`; None where the
    bands do not fill the places `along` the dimensions one by one."""
    numbers = np.zeros([len(values) for values in along], dtype=int)
    indices = [
        [values.index(text) for text in column]
        for values, column in zip(along, columns, strict=True)
    ]
    numbers[tuple(indices)] = [band.number for band in bands]
    filled = numbers.size == len(bands) and bool(numbers.all())
    return numbers if filled else None


def _dimensions(band: Band, file_tags: Mapping[str, str]) -> list[str]:
    """Return the dimensions that the tags of a band name, in the order that the file gives."""
    named = [key for key in band.tags if key.startswith(PLACE_TAG)]
    dimensions = [key.removeprefix(PLACE_TAG) for key in named]
    ordered = file_tags.get(ORDER_TAG, "").strip("{}").split(",")
    return ordered if sorted(ordered) == sorted(dimensions) else dimensions


def _axis(
    dimension: str,
    labels: Sequence[str],
    numbers: Sequence[str],
    file_tags: Mapping[str, str],
) -> list[Variable]:
    """Return the coordinate that tags of bands give: dates where it is time and its labels are
    such, numbers in the units of the file's tags, or else texts."""
    about = attributes_of(dimension, file_tags)
    is_time = counts_from_a_date(str(about.get("units", "")))
    dates = [parse_date(text) for text in labels]
    if is_time and all(dates):
        calendar = str(about.get("calendar", "standard"))
        return time_variables([date for date in dates if date is not None], calendar)
    values = np.array(labels, dtype=object)
    if is_time or all(map(is_number, labels)):
        values = np.array([float(text) for text in numbers])
    return [Variable(dimension, (dimension,), InMemory(values), about)]


def attributes_of(name: str, file_tags: Mapping[str, str]) -> dict[str, Any]:
    """Return what the tags of a file say of a variable."""
    before = f"{name}#"
    return {
        key.removeprefix(before): text
        for key, text in file_tags.items()
        if key.startswith(before)
    }


def plain_name(text: str) -> str:
    """Return a text as the name of a variable; empty where nothing of it can be one."""
    name = re.sub(r"\W+", "_", text).strip("_")
    return f"v{name}" if name[:1].isdigit() else name
