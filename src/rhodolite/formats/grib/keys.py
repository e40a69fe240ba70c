"""What each field of a file is of, as far as its place among others and its metadata need it."""

from __future__ import annotations

import calendar
import contextlib
import json
import sqlite3
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError
from rhodolite.formats.grib.messages import open_content, read_description, read_key
from rhodolite.formats.grib.sections import Field, find_fields, product_of
from rhodolite.formats.header_cache import cache_in_use, user_cache

_CACHE_PART = "fields of GRIB, months by the calendar"
_WORTH_KEEPING = 100
"""Fields from which on it pays to keep what was read of them."""
_SECONDS = {0: 60, 1: 3600, 2: 86400, 10: 10800, 11: 21600, 12: 43200, 13: 1, 254: 1}
"""Of the codes of units of time (code table 4.4, and table 4 of edition 1)."""
_MONTHS = {3: 1, 4: 12, 5: 120, 6: 360, 7: 1200}
"""Of the codes of units that have no fixed length: months, years, decades, normals, centuries."""
_KEYS_OF_UNITS = ("indicatorOfUnitOfTimeRange", "indicatorOfUnitForTimeRange")
"""Of what stands before the interval of a field, and in edition 2 of its length."""
_AT_FIRST, _FROM_FIRST_TO_SECOND = (0, 1), (2, 3, 4, 5)
"""Time range indicators of edition 1 (table 5): an instant, and an interval between two times."""
_NOT_SAID = ("unknown", "~", "Numeric", "Code table 4.222", "")


@dataclass(frozen=True)
class Product:
    """What messages say that are alike but for their times.

    Parameters
    ----------
    name : str
        Of the variable that they belong to.
    standard_name, long_name, units : str or None
    grid : str
        Alike for fields on the same grid.
    points : int
        Number of values.
    level_kind : str
        What the level is, in the words of the code table.
    level, layer_end : float or None
        The level, or both ends of a layer: in SI units where `si_levels`, else in those of
        edition 1.
    si_levels : bool
    step_kind : str
        Whether they are of an instant, or a sum, mean or extreme of an interval.
    member : int or None
        Number in an ensemble.
    along_grid : bool
        Whether components of vectors are along the x and y of the grid.
    centre : str or None
        Where they come from.
    """

    name: str
    standard_name: str | None
    long_name: str | None
    units: str | None
    grid: str
    points: int
    level_kind: str
    level: float | None
    layer_end: float | None
    si_levels: bool
    step_kind: str
    member: int | None
    along_grid: bool
    centre: str | None


@dataclass(frozen=True)
class Times:
    """Of what time a field is.

    Parameters
    ----------
    reference : str
        Start of the forecast, or time of the analysis (ISO 8601).
    start, end : int
        Of the interval, in seconds after the reference; alike for an instant.
    bits : int
        Of a packed value.
    """

    reference: str
    start: int
    end: int
    bits: int


@dataclass(frozen=True)
class Keys(Times, Product):
    """What the message of a field says of it."""


def read_fields(path: Path) -> list[tuple[Field, Keys]]:
    """Return the fields of a file with their keys; from the user's cache where they are there.

    Raises
    ------
    DataError
        If the file is damaged, or a field cannot be described.
    """
    cache = user_cache() if cache_in_use() else None
    place = path, _CACHE_PART
    key = cache.key(place) if cache else ""
    if cache and (text := cache.find([place]).get(place)):
        return _from_text(text)
    products: dict[bytes, Product] = {}
    fields = [(field, _read_keys(path, field, products)) for field in find_fields(path)]
    if cache and len(fields) >= _WORTH_KEEPING:
        # A folder that cannot be written to costs time and nothing else.
        with contextlib.suppress(OSError, sqlite3.Error):
            cache.keep([(key, _as_text(fields))])
    return fields


def _as_text(fields: Sequence[tuple[Field, Keys]]) -> str:
    """Return fields as text, in which each product stands once."""
    products: dict[tuple[Any, ...], int] = {}
    entries = []
    for field, keys in fields:
        about = asdict(keys)
        times = [about.pop(name) for name in Times.__annotations__]
        number = products.setdefault(tuple(about.values()), len(products))
        entries.append([field.spans, field.description, number, *times])
    return json.dumps([list(products), entries])


def _from_text(text: str) -> list[tuple[Field, Keys]]:
    products, entries = json.loads(text)
    return [
        (Field(tuple(map(tuple, spans)), described), Keys(*products[number], *times))
        for spans, described, number, *times in entries
    ]


def _read_keys(path: Path, field: Field, products: dict[bytes, Product]) -> Keys:
    """Return what a message says; what others of its product have said already is not asked for
    again, since names are found by search."""
    content = read_description(path, field)
    alike = product_of(content)
    with open_content(path, field, content) as handle:
        reference = _reference(path, handle)
        start, end = _interval(path, handle, reference)
        _check_end(path, reference, end)
        if alike not in products:
            products[alike] = _read_product(handle)
        bits = read_key(handle, "bitsPerValue") or 0
        shared = asdict(products[alike])
        return Keys(
            **shared, reference=reference.isoformat(), start=start, end=end, bits=bits
        )


def _read_product(handle: Any) -> Product:
    level, layer_end, si_levels = _level(handle)
    grid = read_key(handle, "md5GridSection") or read_key(handle, "gridType")
    return Product(
        name=_name(handle),
        standard_name=_said(read_key(handle, "cfName")),
        long_name=_said(read_key(handle, "name")),
        units=_units(read_key(handle, "units")),
        grid=str(grid),
        points=read_key(handle, "numberOfDataPoints") or 0,
        level_kind=str(read_key(handle, "typeOfLevel")),
        level=level,
        layer_end=layer_end,
        si_levels=si_levels,
        step_kind=str(read_key(handle, "stepType")),
        member=_member(handle),
        along_grid=bool(read_key(handle, "uvRelativeToGrid")),
        centre=_said(read_key(handle, "centreDescription")),
    )


def _said(text: object) -> str | None:
    """Return a text, unless it stands for nothing."""
    plain = "" if text is None else str(text).strip()
    return None if plain in _NOT_SAID else plain


def _units(text: object) -> str | None:
    """Return units as UDUNITS reads them."""
    units = _said(text)
    if units is None:
        return None
    return "1" if units in ("(0 - 1)", "Fraction") else units.replace("**", "^")


def _name(handle: Any) -> str:
    """Return a name for the variable, from its number in the code tables where it has none."""
    for key in ("cfVarName", "shortName"):
        name = _said(read_key(handle, key))
        if name is not None:
            return name if name[0].isalpha() else f"v{name}"
    numbers = [
        read_key(handle, key)
        for key in ("discipline", "parameterCategory", "parameterNumber")
    ]
    if None in numbers:
        numbers = [
            read_key(handle, key) for key in ("table2Version", "indicatorOfParameter")
        ]
    return "_".join(["parameter", *(str(number) for number in numbers)])


def _level(handle: Any) -> tuple[float | None, float | None, bool]:
    """Return a level, or both ends of a layer, and whether they are in SI units."""
    if read_key(handle, "edition") == 1:
        top, bottom = (read_key(handle, key) for key in ("topLevel", "bottomLevel"))
        level = read_key(handle, "level")
        return (level, None, False) if top == bottom else (top, bottom, False)
    first, second = (_scaled(handle, which) for which in ("First", "Second"))
    return first, second, True


def _scaled(handle: Any, which: str) -> float | None:
    """Return the value of a fixed surface (template 4.0): a whole number and a power of ten."""
    number = read_key(handle, f"scaledValueOf{which}FixedSurface", int)
    power = read_key(handle, f"scaleFactorOf{which}FixedSurface", int)
    if number is None or power is None:
        return None
    return float(number / 10**power if power >= 0 else number * 10**-power)


def _reference(path: Path, handle: Any) -> datetime:
    date, clock = read_key(handle, "dataDate"), read_key(handle, "dataTime")
    if not date or clock is None:
        raise DataError(f"{path}: a message does not say of what time it is")
    day = date // 10000, date // 100 % 100, date % 100
    moment = clock // 100, clock % 100, read_key(handle, "second") or 0
    try:
        return datetime(*day, *moment)
    except ValueError as error:
        raise DataError(
            f"{path}: a message is of a time that there is not: {date} {clock:04d} ({error})"
        ) from None


def _interval(path: Path, handle: Any, reference: datetime) -> tuple[int, int]:
    """Return when the interval of a field begins and ends, in seconds after the reference."""
    units = [read_key(handle, key, int) for key in _KEYS_OF_UNITS]
    if any(unit in _MONTHS for unit in units):
        try:
            moments = _interval_in_months(path, handle, reference)
        except (KeyError, ValueError, OverflowError):
            raise DataError(
                f"{path}: a message is of an interval that cannot be, or in no known unit"
            ) from None
        begin, end = (int((m - reference).total_seconds()) for m in moments)
        return begin, end
    code = read_key(handle, "stepUnits", int)
    seconds = _SECONDS.get(1 if code is None else code)
    if seconds is None:
        raise DataError(
            f"{path}: a message counts its forecast in no known unit: {code}"
        )
    steps = [read_key(handle, key, int) or 0 for key in ("startStep", "endStep")]
    return steps[0] * seconds, steps[1] * seconds


def _interval_in_months(
    path: Path, handle: Any, reference: datetime
) -> tuple[datetime, datetime]:
    """Return the ends of an interval that is counted in months of the calendar, at least partly.

    The decoding library takes each month for 30 days.
    """
    unit, unit_of_length = (read_key(handle, key, int) for key in _KEYS_OF_UNITS)
    if read_key(handle, "edition") == 1:
        kind = read_key(handle, "timeRangeIndicator", int)
        first, second = (read_key(handle, key, int) or 0 for key in ("P1", "P2"))
        if kind in _AT_FIRST:
            second = first
        elif kind not in _FROM_FIRST_TO_SECOND:
            raise DataError(
                f"{path}: a message is of months of several forecasts (time range indicator "
                f"{kind} of table 5), which are not read; have it converted where it comes from"
            )
        return _later(reference, first, unit), _later(reference, second, unit)
    begin = _later(reference, read_key(handle, "forecastTime", int) or 0, unit)
    length = read_key(handle, "lengthOfTimeRange", int)
    return begin, begin if length is None else _later(begin, length, unit_of_length)


def _later(moment: datetime, count: int, unit: int | None) -> datetime:
    """Return a moment so many units later; of months the same day, or the last of shorter ones."""
    hour = 1
    unit = hour if unit is None else unit
    if unit not in _MONTHS:
        return moment + timedelta(seconds=count * _SECONDS[unit])
    years, month = divmod(moment.month - 1 + count * _MONTHS[unit], 12)
    year = moment.year + years
    last = calendar.monthrange(year, month + 1)[1]
    return moment.replace(year=year, month=month + 1, day=min(moment.day, last))


def _check_end(path: Path, reference: datetime, end: int) -> None:
    """Refuse a forecast whose end has no date, as in a damaged message."""
    try:
        reference + timedelta(seconds=end)
    except OverflowError:
        raise DataError(
            f"{path}: a message is of a forecast of {end / 86400:,.0f} days, which cannot be"
        ) from None


def _member(handle: Any) -> int | None:
    """Return the number in an ensemble; edition 1 has a place for it in messages of none, too."""
    number = read_key(handle, "number", int)
    size = read_key(handle, "numberOfForecastsInEnsemble", int)
    return number if number or size else None
