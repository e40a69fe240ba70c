"""What the columns of tables are called, and the units that their titles give."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

import pandas

from rhodolite.errors import DataError
from rhodolite.model.units.udunits import is_unit

ROLES = {
    "time": {"time", "date", "datetime", "day", "month_start", "timestamp"},
    "lat": {
        "lat",
        "latitude",
        "lats",
        "y",
        "nav_lat",
        "latitud",
        "breite",
        "lat_deg",
        "latitude_deg",
        "lat_dd",
        "ycoord",
    },
    "lon": {
        "lon",
        "longitude",
        "long",
        "lons",
        "lng",
        "x",
        "nav_lon",
        "longitud",
        "laenge",
        "länge",
        "lon_deg",
        "longitude_deg",
        "lon_dd",
        "xcoord",
    },
    "level": {"level", "lev", "plev", "pressure", "depth", "height"},
    "site": {
        "site",
        "station",
        "name",
        "id",
        "site_name",
        "station_name",
        "station_id",
        "reservoir",
    },
    "variable": {"variable"},
}
"""What columns of coordinates are called, in small letters."""
FURTHER_AXES = {
    "member",
    "realization",
    "realisation",
    "ensemble_member",
    "member_name",
    "region",
    "region_name",
    "frequency",
    "harmonic",
    "pattern",
    "return_period",
    "lag",
    "rank",
    "quantile",
}
"""What columns are called that may number or name the values along an axis other than time and
place, in small letters."""
NAME_ENDING = "_name"
OF_SITES = {"distance", "elevation", "elev", "altitude", "alt"}
"""What columns are called whose numbers tell of a site, where they are the same at all times."""
DAY_OF_YEAR = {"doy", "yday", "day_of_year", "dayofyear", "jday", "julian_day"}
"""What columns are called that number the days of a year from 1, in small letters."""
DECIMAL_YEARS = {
    "decimal_year",
    "decimal year",
    "year_decimal",
    "decimal_date",
    "decimal date",
    "fractional_year",
    "year_fraction",
}
"""What columns are called that hold years with decimals, in small letters."""
CLOCKS = {"time", "hour", "time_utc", "utc"}
"""What columns are called that may hold times of the day, in small letters."""
_PARTS_OF_DATES = {"year", "month", "day", *CLOCKS, *DAY_OF_YEAR, *DECIMAL_YEARS}
_HEADER = re.compile(r"(.*?)\s*(?:\[([^\]]*)\]|\(([^)]*)\))")


def role_of(name: str) -> str | None:
    """Return which coordinate a column of this name is; None for all others. Of `lat/lon`, as in
    the corner of a matrix, the first counts."""
    word = re.split(r"[\\/]", name)[0].strip().lower()
    return next((role for role, known in ROLES.items() if word in known), None)


def is_kept_as_text(name: str) -> bool:
    """Return whether a column is read as it is written, since it may hold dates or names."""
    return role_of(name) is not None or name.strip().lower() in _PARTS_OF_DATES


def further_columns(cells: pandas.DataFrame, placed: Iterable[str]) -> list[str]:
    """Return the columns that tell members, regions, frequencies and the like apart, where rows of
    the same time and place differ in them.

    Parameters
    ----------
    cells : pandas.DataFrame
    placed : iterable of str
        Columns of times and places.
    """
    named = [n for n in cells.columns if str(n).strip().lower() in FURTHER_AXES]
    # What is numbered needs no names beside its numbers.
    numbered = {f"{name}{NAME_ENDING}" for name in named}
    named = [name for name in named if name not in numbered]
    columns = list(placed)
    if columns and not (named and cells.duplicated(columns).any()):
        return []
    return named


def around_time(
    columns: Iterable[str], placed: Iterable[str], further: Iterable[str]
) -> tuple[list[str], list[str]]:
    """Return which of the further axes stand before all times and places, and which after time, as
    their columns do."""
    order = list(columns)
    first = min((order.index(name) for name in placed if name in order), default=0)
    before = [name for name in further if order.index(name) < first]
    return before, [name for name in further if name not in before]


def axis_of_column(name: str) -> str:
    """Return the dimension along which a column tells places apart, such as `region` of
    `region_name`."""
    return name.removesuffix(NAME_ENDING)


def find_roles(names: Iterable[str]) -> dict[str, str]:
    """Return which column is which coordinate; of several the first."""
    roles: dict[str, str] = {}
    for name in names:
        role = role_of(name)
        if role is not None:
            roles.setdefault(role, name)
    # A letter alone is a position only beside the other one: `time,x` is a series called x.
    for role, other in (("lon", "lat"), ("lat", "lon")):
        if other not in roles and len(roles.get(role, "").strip()) == 1:
            del roles[role]
    return roles


def names_and_units(
    path: Path, titles: Iterable[str]
) -> tuple[list[str], dict[str, str]]:
    """Return what columns are called, and the units that their titles give.

    Parameters
    ----------
    path : Path
        Of the table, for the message.
    titles : iterable of str

    Raises
    ------
    DataError
        If two have the same name.
    """
    names, units = [], {}
    seen: dict[str, int] = {}
    for number, title in enumerate(titles, 1):
        name, unit = split_title(" ".join(title.split()))
        if name and seen.setdefault(name, number) != number:
            raise DataError(
                f"{path}: columns {seen[name]} and {number} are both called '{name}'; give each a "
                "name of its own"
            )
        if unit:
            units[name] = unit
        names.append(name)
    return names, units


def split_title(title: str) -> tuple[str, str]:
    """Return name and units of what a column title, or the word in a column `variable`, says.

    Examples
    --------
    >>> split_title("tas [K]"), split_title("tas"), split_title("Rain (mm)")
    (('tas', 'K'), ('tas', ''), ('Rain', 'mm'))
    """
    fitting = _HEADER.fullmatch(title.strip())
    unit = (fitting.group(2) or fitting.group(3) or "") if fitting else ""
    if fitting and (fitting.group(2) is not None or is_unit(unit)):
        return fitting.group(1), unit
    return title.strip(), ""


def column_title(name: str, units: str | None) -> str:
    """Return the header of a column: the name, and the units in brackets where there are some.

    Examples
    --------
    >>> column_title("tas", "K")
    'tas [K]'
    """
    return f"{name} [{units}]" if units and units != "1" else name
