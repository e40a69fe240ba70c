"""What operations mean, written down as plainly as can be: loops over steps and cells, dates from
the calendar.

It knows nothing of the program. Files are read with the NetCDF library, which masks and unpacks.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import timedelta

import cftime
import netCDF4
import numpy as np

MONTHLY_STEPS = 12  # of a period of so few steps none may be missing
SHARE = 0.64


@dataclass(frozen=True)
class Field:
    """Values over (time, row, column), and what each step and cell is.

    `cells` has the beginning and the end of each step as dates; `lat` and `lon` the centres and
    `lat_edges` and `lon_edges` the ends of rows and columns, where the grid has these.
    """

    values: np.ndarray
    cells: list
    lat: np.ndarray
    lon: np.ndarray
    lat_edges: np.ndarray
    lon_edges: np.ndarray
    amounts: bool = False
    per: str | None = None
    unit: str = ""
    difference: bool = False


def read(path, name, cells, *, difference=False):
    """Read a variable; `cells` are the beginnings and ends of its steps, which the maker of the
    file knows, as whether temperatures are differences.

    Rates are amounts for the time in `per`: a day, or the month or year that a step lies in.
    """
    with netCDF4.Dataset(path) as file:
        values = np.ma.filled(file[name][:].astype(np.float64), np.nan)
        about = file[name].__dict__
        unit, amounts = about["units"], about.get("cell_methods") == "time: sum"
        per = unit.split()[-1].removesuffix("-1") if unit.endswith("-1") else None
        lat, lon = (
            np.asarray(file[axis][:], dtype=np.float64) for axis in ("lat", "lon")
        )
    if lat.ndim == 2:  # rows and columns are numbered, and only positions are known
        ends = [np.array([[at, at + 1.0] for at in range(n)]) for n in lat.shape]
    else:
        ends = [edges(lat, 90.0), edges(lon, math.inf)]
    return Field(values, cells, lat, lon, *ends, amounts, per, unit, difference)


def edges(centres, limit):
    """Both ends of each cell, halfway to the neighbours and as far on the outer side."""
    made = []
    for at, value in enumerate(centres):
        before = centres[at - 1] if at else 2 * value - centres[1]
        after = (
            centres[at + 1] if at + 1 < len(centres) else 2 * value - centres[at - 1]
        )
        pair = [(value + before) / 2, (value + after) / 2]
        made.append([min(max(end, -limit), limit) for end in pair])
    return np.array(made)


def days(cell):
    return (cell[1] - cell[0]).total_seconds() / 86400


def middle(cell):
    return cell[0] + (cell[1] - cell[0]) / 2


def take(field, steps=None, rows=None, columns=None, turns=None):
    steps = range(len(field.cells)) if steps is None else steps
    if field.lat.ndim == 2:
        kept = list(steps)
        return replace(
            field, values=field.values[kept], cells=[field.cells[at] for at in kept]
        )
    rows = list(range(len(field.lat)) if rows is None else rows)
    columns = list(range(len(field.lon)) if columns is None else columns)
    turns = np.zeros(len(columns)) if turns is None else np.array(turns)
    steps = list(steps)
    return replace(
        field,
        values=field.values[np.ix_(steps, rows, columns)],
        cells=[field.cells[at] for at in steps],
        lat=field.lat[rows],
        lon=field.lon[columns] + turns,
        lat_edges=field.lat_edges[rows],
        lon_edges=field.lon_edges[columns] + turns[:, None],
    )


def subset_lat(field, south, north):
    return take(
        field,
        rows=[
            at
            for at, value in enumerate(field.lat)
            if south - 1e-6 <= value <= north + 1e-6
        ],
    )


def block_between(field, south, north):
    """On a grid whose positions have two dimensions: the smallest block with all cells inside,
    others missing."""
    inside = (field.lat >= south - 1e-6) & (field.lat <= north + 1e-6)
    if not inside.any():
        return None
    rows, columns = (np.flatnonzero(inside.any(axis=axis)) for axis in (1, 0))
    block = (slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1))
    values = np.where(inside[block], field.values[(slice(None), *block)], np.nan)
    ends = {
        "lat_edges": field.lat_edges[block[0]],
        "lon_edges": field.lon_edges[block[1]],
    }
    return replace(
        field, values=values, lat=field.lat[block], lon=field.lon[block], **ends
    )


def subset_lon(field, west, east):
    """Columns eastward from `west`, each counted from there."""
    found = []
    for at, value in enumerate(field.lon):
        beyond = (value - west + 1e-6) % 360 - 1e-6
        if beyond <= east - west + 1e-6:
            found.append((beyond, at, west + beyond - value))
    found.sort()
    return take(
        field, columns=[at for _, at, _ in found], turns=[turn for _, _, turn in found]
    )


def subset_months(field, months):
    return take(
        field,
        [at for at, cell in enumerate(field.cells) if middle(cell).month in months],
    )


def subset_years(field, first, last):
    return take(
        field,
        [
            at
            for at, cell in enumerate(field.cells)
            if first <= middle(cell).year <= last
        ],
    )


def period_of(cell, unit):
    """A number for the period that a step lies in, and the beginning and end of that."""
    date = middle(cell)
    calendar = date.calendar

    def month(number):
        return cftime.datetime(number // 12, number % 12 + 1, 1, calendar=calendar)

    here = date.year * 12 + date.month - 1
    if unit == "month":
        return here, (month(here), month(here + 1))
    if unit == "year":
        return date.year, (month(date.year * 12), month(date.year * 12 + 12))
    if unit == "day":
        first = cftime.datetime(date.year, date.month, date.day, calendar=calendar)
        return first.toordinal(), (first, first + timedelta(days=1))
    season = (here + 1) // 3
    return season, (month(season * 3 - 1), month(season * 3 + 2))


def units_covered(field, cell):
    """How many of the months or years (or days) that a rate is for a step covers."""
    if field.per in (None, "day"):
        return days(cell)
    at, covered = cell[0], 0.0
    while at < cell[1]:
        whole = period_of((at, at + timedelta(seconds=2)), field.per)[1]
        until = min(whole[1], cell[1])
        covered += days((at, until)) / days(whole)
        at = until
    return covered


TIMES = {"degC": 1.0, "K": 1.0, "degF": 1.8, "mm": 1.0, "cm": 0.1}
ZERO = {"degC": -273.15, "K": 0.0, "degF": -459.67}


def convert(field, unit):
    """Other units: differences of temperature keep their zero, and amounts for a month or a year
    are for the one that a step lies in."""
    old, new = (text.rpartition(" ")[0] or text for text in (field.unit, unit))
    values = field.values * (TIMES[new] / TIMES[old])
    if new in ZERO and not field.difference:
        values = (field.values - ZERO[old]) * (TIMES[new] / TIMES[old]) + ZERO[new]
    if field.per is None:
        return replace(field, values=values, unit=unit)
    made = replace(field, unit=unit, per=unit.split()[-1].removesuffix("-1"))
    lengths = [
        units_covered(field, cell) / units_covered(made, cell) for cell in field.cells
    ]
    return replace(made, values=values * np.array(lengths)[:, None, None])


def accumulate(field):
    """Amounts since the start of the year; unknown after a gap, and where the data begin later."""
    out = np.full(field.values.shape, np.nan)
    year, total, end = None, np.nan, None
    for at, cell in enumerate(field.cells):
        here, ends = period_of(cell, "year")
        if here != year:
            year, total, end = here, np.zeros(out.shape[1:]), ends[0]
        if cell[0] != end:
            total = total * np.nan
        end = cell[1]
        factor = 1.0 if field.amounts else units_covered(field, cell)
        out[at] = total = total + field.values[at] * factor
    amount = field.unit.rpartition(" ")[0] or field.unit
    return replace(field, values=out, amounts=False, per=None, unit=f"total {amount}")


def count(values, kind):
    side, threshold = kind.partition(" ")[::2]
    above = side == "count-above"
    return float(
        sum(
            value > float(threshold) if above else value < float(threshold)
            for value in values
        )
    )


def statistic(values, weights, kind):
    if not values:
        return math.nan
    if kind.startswith("count"):
        return count(values, kind)
    if kind == "mean":
        return math.fsum(
            v * w for v, w in zip(values, weights, strict=False)
        ) / math.fsum(weights)
    return {"sum": math.fsum, "min": min, "max": max}[kind](values)


def aggregate(field, unit, kind):
    groups = {}
    for at, cell in enumerate(field.cells):
        number, ends = period_of(cell, unit)
        groups.setdefault(number, (ends, []))[1].append(at)
    held = {middle(cell).month for cell in field.cells}
    whole_years = [
        number
        for number, (_, steps) in groups.items()
        if {middle(field.cells[at]).month for at in steps} == held
    ]
    part = (
        unit == "year"
        and len(held) < 12
        and len(whole_years) > 1
        and max(map(days, field.cells)) <= 31
    )
    chosen = held if part else set(range(1, 13))
    out = np.full((len(groups), *field.values.shape[1:]), np.nan)
    most = 0
    shares = []
    for ends, steps in (groups[number] for number in sorted(groups)):
        full, month = 0.0, ends[0].year * 12 + ends[0].month - 1
        if unit == "day":
            full, month = 1.0, month + 1
        while (
            cftime.datetime(month // 12, month % 12 + 1, 1, calendar=ends[0].calendar)
            < ends[1]
        ):
            first = cftime.datetime(
                month // 12, month % 12 + 1, 1, calendar=ends[0].calendar
            )
            after = cftime.datetime(
                (month + 1) // 12, (month + 1) % 12 + 1, 1, calendar=ends[0].calendar
            )
            full += (
                (after - first).total_seconds() / 86400
                if month % 12 + 1 in chosen
                else 0.0
            )
            month += 1
        there = sum(days(field.cells[at]) for at in steps)
        shares.append((steps, full))
        most = max(most, round(len(steps) / min(there / full, 1)))
    adds = kind not in ("mean", "min", "max")
    needed = 1.0 if adds or most <= MONTHLY_STEPS else SHARE
    for row, (steps, full) in enumerate(shares):
        for y, x in np.ndindex(field.values.shape[1:]):
            kept = [at for at in steps if not math.isnan(field.values[at, y, x])]
            if sum(days(field.cells[at]) for at in kept) / full < needed - 1e-9:
                continue
            lengths = [
                1.0 if field.amounts else units_covered(field, field.cells[at])
                for at in kept
            ]
            becomes_amount = field.per is not None and kind == "sum"
            values = [
                field.values[at, y, x] * (length if becomes_amount else 1.0)
                for at, length in zip(kept, lengths, strict=True)
            ]
            out[row, y, x] = statistic(values, lengths, kind)
    made = replace(
        field, values=out, cells=[groups[number][0] for number in sorted(groups)]
    )
    if kind.startswith("count"):
        return replace(made, amounts=False, per=None, unit="1")
    if kind != "sum":
        return made
    amounts = field.amounts or field.per is not None
    return replace(
        made, amounts=amounts, per=None, unit=field.unit.rpartition(" ")[0] or "total"
    )


def summarise_area(field):
    out = np.full((len(field.cells), 1, 1), np.nan)
    for at in range(len(field.cells)):
        values, weights = [], []
        for y, x in np.ndindex(field.values.shape[1:]):
            if not math.isnan(field.values[at, y, x]):
                south, north = np.radians(field.lat_edges[y])
                weights.append(
                    abs(math.sin(north) - math.sin(south))
                    * abs(np.diff(field.lon_edges[x])[0])
                )
                values.append(field.values[at, y, x])
        out[at, 0, 0] = statistic(values, weights, "mean")
    return replace(
        field,
        values=out,
        lat=field.lat[:1],
        lon=field.lon[:1],
        lat_edges=field.lat_edges[:1],
        lon_edges=field.lon_edges[:1],
    )


def normals(field):
    """The mean of each month of the year, where at least 80 % of its years are there."""
    years = {middle(cell).year for cell in field.cells}
    found = {}
    for month in sorted({middle(cell).month for cell in field.cells}):
        steps = [
            at for at, cell in enumerate(field.cells) if middle(cell).month == month
        ]
        made = np.full(field.values.shape[1:], np.nan)
        for y, x in np.ndindex(made.shape):
            values = [
                field.values[at, y, x]
                for at in steps
                if not math.isnan(field.values[at, y, x])
            ]
            if len(values) >= 0.8 * len(steps) - 1e-9:
                made[y, x] = statistic(values, [1.0] * len(values), "mean")
        found[month] = made
    assert years
    return found


def climatology(field):
    found = normals(field)
    return replace(
        field, values=np.array(list(found.values())), cells=[None] * len(found)
    )


def anomaly(field):
    found = normals(field)
    values = [
        field.values[at] - found[middle(cell).month]
        for at, cell in enumerate(field.cells)
    ]
    return replace(field, values=np.array(values), difference=True)


def decimal_year(date):
    calendar = date.calendar
    first, after = (
        cftime.datetime(date.year + more, 1, 1, calendar=calendar) for more in (0, 1)
    )
    return date.year + (date - first) / (after - first)


def trend(field):
    """Slope of least squares per ten years over the middles of the steps, of cells with at least
    three values; of temperatures in kelvins."""
    scale = 10 / TIMES["degF"] if field.unit == "degF" else 10
    stamps = [middle(cell) for cell in field.cells]
    out = np.full((1, *field.values.shape[1:]), np.nan)
    for y, x in np.ndindex(out.shape[1:]):
        series = zip(stamps, field.values[:, y, x], strict=True)
        pairs = [(decimal_year(date), v) for date, v in series if not math.isnan(v)]
        if len(pairs) >= 3:
            mean_t, mean_v = (
                math.fsum(part) / len(pairs) for part in zip(*pairs, strict=False)
            )
            top = math.fsum((t - mean_t) * (v - mean_v) for t, v in pairs)
            out[0, y, x] = scale * top / math.fsum((t - mean_t) ** 2 for t, _ in pairs)
    return replace(field, values=out, cells=[None])
