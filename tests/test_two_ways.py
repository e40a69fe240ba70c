"""The same question asked in two ways, over random files of every kind: both answers are one.

Each pair holds a rule that could stand in two places: what a step covers, how long a month is, what
is a difference of temperature, what a mean weighs, what is near enough.
"""

from __future__ import annotations

import itertools
import json
import shlex
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import netCDF4
import numpy as np
import pytest
from hypothesis import given, settings

import rhodolite
from conftest import EXAMPLES, make_dataset, run_here
from rhodolite import Aggregate, Climatology, Summarise
from test_differential import files, make

BOX = (-20.0, -30.0, 200.0, 50.0)
"""West, south, east and north of an outline."""


@dataclass
class Case:
    """A random file, `in.nc`, and what is made of it."""

    folder: Path
    how: dict[str, Any]
    made: int = 0

    @property
    def daily(self) -> bool:
        return self.how["daily"]

    @property
    def what(self) -> str:
        return self.how["what"]

    @property
    def regular(self) -> bool:
        return not self.how["curvilinear"]

    @property
    def gaps(self) -> bool:
        return self.how["gaps"] > 0

    def write(self, line: str, suffix: str = ".nc") -> str:
        """Run a command and return the name of what it wrote."""
        self.made += 1
        name = f"made{self.made}{suffix}"
        answer = run_here(*shlex.split(line), "-o", name, folder=self.folder)
        assert answer.code == 0, (line, answer.err)
        return name

    def values(self, line: str, name: str = "v") -> np.ndarray:
        """Run a command and return a variable of what it wrote."""
        return self.read(self.write(line), name)

    def read(self, file: str, name: str = "v") -> np.ndarray:
        with netCDF4.Dataset(self.folder / file) as opened:
            return np.ma.filled(opened[name][:].astype(np.float64), np.nan).squeeze()

    def variant(self, **changes: Any) -> str:
        """Write the same data in another form, and return the name of the file."""
        self.made += 1
        name = f"variant{self.made}.nc"
        make(self.folder / name, {**self.how, **changes})
        return name

    def rewritten(self, change: Any) -> str:
        """Copy the input with a change of what is stored, and return the name of the copy."""
        self.made += 1
        name = f"copy{self.made}.nc"
        places = (self.folder / "in.nc", "r"), (self.folder / name, "w")
        with netCDF4.Dataset(*places[0]) as old, netCDF4.Dataset(*places[1]) as new:
            change(old, new)
        return name


def copy_axes(old: Any, new: Any) -> None:
    for dimension in old.dimensions.values():
        new.createDimension(dimension.name, dimension.size)
    for variable in old.variables.values():
        if variable.name != "v":
            made = new.createVariable(
                variable.name, variable.dtype, variable.dimensions
            )
            made.setncatts(variable.__dict__)
            made[:] = variable[:]


def words_of(variable: Any) -> dict[str, Any]:
    stored = ("_FillValue", "missing_value", "scale_factor", "add_offset")
    return {key: value for key, value in variable.__dict__.items() if key not in stored}


def unpacked(old: Any, new: Any) -> None:
    copy_axes(old, new)
    made = new.createVariable("v", "f8", old["v"].dimensions, fill_value=np.nan)
    made.setncatts(words_of(old["v"]))
    made[:] = np.ma.filled(old["v"][:].astype("f8"), np.nan)


def time_last(old: Any, new: Any) -> None:
    copy_axes(old, new)
    time, *grid = old["v"].dimensions
    made = new.createVariable("v", "f8", (*grid, time), fill_value=np.nan)
    made.setncatts(words_of(old["v"]))
    made[:] = np.moveaxis(np.ma.filled(old["v"][:].astype("f8"), np.nan), 0, -1)


def rows_reversed(old: Any, new: Any) -> None:
    unpacked(old, new)
    new["lat"][:] = old["lat"][:][::-1]
    new["v"][:] = np.ma.filled(old["v"][:].astype("f8"), np.nan)[:, ::-1]


def with_positions_of_two_dimensions(old: Any, new: Any) -> None:
    new.createDimension("time", old.dimensions["time"].size)
    shape = old["lat"].size, old["lon"].size
    for name, n in zip(("y", "x"), shape, strict=True):
        new.createDimension(name, n)
    made = new.createVariable("time", "f8", ("time",))
    made.setncatts(
        {key: value for key, value in old["time"].__dict__.items() if key != "bounds"}
    )
    made[:] = old["time"][:]
    for name, values in zip(
        ("lat", "lon"),
        np.meshgrid(old["lat"][:], old["lon"][:], indexing="ij"),
        strict=True,
    ):
        made = new.createVariable(name, "f8", ("y", "x"))
        made.units = old[name].units
        made[:] = values
    made = new.createVariable("v", "f8", ("time", "y", "x"), fill_value=np.nan)
    made.setncatts({**words_of(old["v"]), "coordinates": "lat lon"})
    made[:] = np.ma.filled(old["v"][:].astype("f8"), np.nan)


def outline(case: Case, box: tuple[float, float, float, float] = BOX) -> str:
    west, south, east, north = box
    ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
    content = {"type": "Polygon", "coordinates": [ring]}
    (case.folder / "box.geojson").write_text(json.dumps(content))
    return "box.geojson"


def last_of_each(case: Case, file: str, period: str) -> np.ndarray:
    """Return running totals at the last step of each month or year."""
    axis = rhodolite.read(case.folder / file).time
    keys = axis.years if period == "year" else axis.month_numbers
    ends = np.flatnonzero(np.append(np.diff(keys) != 0, True))
    return case.read(file)[ends]


LOOSE = {
    "--min-coverage": "--min-coverage 0",
    "--base": "--min-years 1 --min-coverage 0",
}
ANOMALY = f"anomaly in.nc {LOOSE['--base']}"
WHOLE_MONTHS = "subset in.nc --time 2001-12..2002-01"


def region_in_the_subset_or_in_the_summary(case):
    box = outline(case)
    return [
        case.values(f"subset in.nc --region {box} then summarise"),
        case.values(f"summarise in.nc --region {box}"),
    ]


def region_around_all_or_none(case):
    """An outline that reaches beyond the cells on every side holds all of them."""
    if not case.regular:
        return None
    lat = rhodolite.read(case.folder / "in.nc")["lat"].values()
    lowest, highest = sorted(map(float, lat))[:: len(lat) - 1]
    first = case.how["west"]
    # Three columns of 40 degrees, and the rows but for the outermost of each side.
    part = f"subset in.nc --lat {lowest + 0.01:.2f}..{highest - 0.01:.2f} "
    part += f"--lon {first:g}..{first + 80:g} then summarise"
    box = outline(case, (first - 31, -85.0, first + 111, 88.0))
    return [case.values(part), case.values(f"{part} --region {box}")]


def sum_over_a_region_after_or_within(case):
    if case.what == "rate" or case.gaps:
        return None
    box = outline(case)
    return [
        case.values(f"subset in.nc --region {box} then summarise --statistic max"),
        case.values(f"summarise in.nc --region {box} --statistic max"),
    ]


def rim_of_a_cut_keeps_its_cells(case):
    """The mean over a cut of a regular grid, weighted by the areas of the uncut grid."""
    if not case.regular or case.gaps:
        return None
    cut = case.write("subset in.nc --lat -40..40")
    with netCDF4.Dataset(case.folder / "in.nc") as file:
        lat = np.asarray(file["lat"][:], float)
        values = np.ma.filled(file["v"][:].astype(float), np.nan)
    edges = np.concatenate(
        [
            [1.5 * lat[0] - lat[1] / 2],
            (lat[1:] + lat[:-1]) / 2,
            [1.5 * lat[-1] - lat[-2] / 2],
        ]
    )
    areas = np.abs(np.diff(np.sin(np.radians(edges.clip(-90, 90)))))
    rows = (lat >= -40 - 1e-4) & (lat <= 40 + 1e-4)
    means = np.average(values[:, rows].mean(axis=2), axis=1, weights=areas[rows])
    return [case.values(f"summarise {cut}"), means]


def ends_of_the_running_total_or_the_sum(case):
    if case.what == "state":
        return None
    total = case.write("accumulate in.nc")
    sums = case.values("aggregate in.nc --to year --statistic sum")
    ends = last_of_each(case, total, "year")
    known = ~np.isnan(sums)
    return [ends[known], sums[known]]


def ends_of_the_monthly_total_or_the_sum(case):
    if case.what == "state" or not case.daily:
        return None
    total = case.write("accumulate in.nc --reset month")
    sums = case.values("aggregate in.nc --to month --statistic sum")
    ends = last_of_each(case, total, "month")
    known = ~np.isnan(sums)
    return [ends[known], sums[known]]


def convert_or_calc(units, what):
    def pair(case):
        if case.what != what:
            return None
        return [
            case.values(f"convert in.nc --units 'v={units}'"),
            case.values(f"calc in.nc --formula v --name w --units '{units}'", "w"),
        ]

    return pair


def there_and_back_through_months(case):
    if case.what != "rate":
        return None
    return [
        case.values(
            "convert in.nc --units 'v=mm year-1' then convert --units 'v=mm month-1'"
        ),
        case.values("convert in.nc --units 'v=mm month-1'"),
    ]


def sum_of_amounts_for_each_year_or_of_rates(case):
    if case.what != "rate":
        return None
    return [
        case.values(
            "convert in.nc --units 'v=mm year-1' then aggregate --to year --statistic sum"
        ),
        case.values("aggregate in.nc --to year --statistic sum"),
    ]


def mean_of_amounts_for_each_year_or_of_rates(case):
    """The mean over time of a rate, in other units before and after, within one calendar year."""
    if case.what != "rate":
        return None
    return [
        case.values(
            "subset in.nc --years 2002 then convert --units 'v=mm year-1' then summarise "
            "--over time then convert --units 'v=mm day-1'"
        ),
        case.values(
            "subset in.nc --years 2002 then summarise --over time then convert --units "
            "'v=mm year-1' then convert --units 'v=mm day-1'"
        ),
    ]


def threshold_or_formula(words, formula, what):
    def pair(case):
        if case.what != what:
            return None
        return [
            case.values(f"aggregate in.nc --to year --statistic '{words}'"),
            case.values(
                f"calc in.nc --formula '{formula}' --name w then aggregate --to year --statistic "
                "sum --min-coverage 1",
                "w",
            ),
        ]

    return pair


def thresholds_of_departures_in_two_units(case):
    if case.what != "state":
        return None
    return [
        case.values(f"{ANOMALY} then aggregate --to year --statistic 'count-above 2K'"),
        case.values(
            f"{ANOMALY} then aggregate --to year --statistic 'count-above 2degC'"
        ),
    ]


def departures_in_other_units_before_or_after(case):
    if case.what != "state":
        return None
    return [
        case.values(f"convert in.nc --units v=degF then anomaly {LOOSE['--base']}"),
        case.values(f"{ANOMALY} then convert --units v=degF"),
    ]


def spread_in_other_units_before_or_after(case):
    if case.what != "state":
        return None
    line = "aggregate --to year --statistic std --min-coverage 0"
    return [
        case.values(
            f"convert in.nc --units v=degC then {line} then convert --units v=degF"
        ),
        case.values(
            f"{line.replace('aggregate', 'aggregate in.nc')} then convert --units v=degF"
        ),
    ]


def trend_from_a_table_or_at_once(layout):
    def pair(case):
        if not case.regular:
            return None
        table = case.write(f"summarise in.nc {layout}", ".csv")
        return [
            case.values(
                f"trend {table} --serial-correlation none", trend_name(case, table)
            ),
            case.values(
                "summarise in.nc then trend --serial-correlation none", "v_trend"
            ),
        ]

    return pair


def trend_name(case, table):
    data = rhodolite.read(case.folder / table)
    return f"{next(iter(data.fields)).name}_trend"


def year_from_a_table_of_ten_days(case):
    """What odd periods cover survives a table."""
    if not case.daily or not case.regular:
        return None
    line = "summarise in.nc then aggregate --to 10days --min-coverage 0"
    table = case.write(line, ".csv")
    after = "aggregate --to season --min-coverage 0"
    name = next(iter(rhodolite.read(case.folder / table).fields)).name
    return [
        case.values(f"{after.replace('aggregate', f'aggregate {table}')}", name),
        case.values(f"{line} then {after}"),
    ]


def months_of_days_or_days_at_once(case):
    if not case.daily or case.gaps:
        return None
    kind = "sum" if case.what != "state" else "mean"
    season = f"aggregate --to season --statistic {kind} --min-coverage 0"
    return [
        case.values(
            f"{WHOLE_MONTHS} then aggregate --to month --statistic {kind} then {season}"
        ),
        case.values(f"{WHOLE_MONTHS} then {season}"),
    ]


def packed_or_not(line):
    def pair(case):
        plain = case.rewritten(unpacked)
        name = "v_trend" if "trend" in line else "v"
        return [
            case.values(line, name),
            case.values(line.replace("in.nc", plain), name),
        ]

    return pair


def turned_longitudes_before_or_after(line):
    def pair(case):
        if not case.regular:
            return None
        turn = "convert --longitude -180..180"
        before = f"{turn.replace('convert', 'convert in.nc')} then {line.replace(' in.nc', '')}"
        after = line if "summarise" in line else f"{line} then {turn}"
        return [case.values(before), case.values(after)]

    return pair


def rows_the_other_way(line):
    def pair(case):
        if not case.regular:
            return None
        other = case.rewritten(rows_reversed)
        turn = " then convert --latitude ascending"
        turn = "" if "summarise" in line else turn
        return [
            case.values(line + turn),
            case.values(line.replace("in.nc", other) + turn),
        ]

    return pair


def whole_or_joined(line):
    def pair(case):
        first = case.write("subset in.nc --time ..2001-12")
        second = case.write("subset in.nc --time 2002-01..")
        name = "v_trend" if "trend" in line else "v"
        return [
            case.values(line, name),
            case.values(line.replace("in.nc", f"{first} {second}"), name),
        ]

    return pair


def command_or_python(case):
    data = rhodolite.read(case.folder / "in.nc")
    made = data.anomaly(min_years=1, min_coverage=0).summarise(
        over="time", statistic="max"
    )
    return [
        case.values(f"{ANOMALY} then summarise --over time --statistic max"),
        made["v"].values().squeeze(),
    ]


def command_or_study(case):
    (case.folder / "work.toml").write_text(
        '[inputs]\ndata = "in.nc"\n\n[steps.departures]\ndo = "anomaly"\nof = "data"\n'
        'min_years = 1\nmin_coverage = 0\n\n[outputs]\n"study.nc" = "departures"\n'
    )
    return (
        None if not study_runs(case) else [case.values(ANOMALY), case.read("study.nc")]
    )


def study_runs(case):
    answer = run_here("study", "work.toml", folder=case.folder)
    assert answer.code == 0, answer.err
    return True


def normals_kept_or_at_once(case):
    if case.daily:  # of four months, which are told from seasons by no file
        return None
    normals = case.write(f"climatology in.nc {LOOSE['--base']}")
    return [case.values(f"anomaly in.nc --climatology {normals}"), case.values(ANOMALY)]


def axes_in_another_order(line):
    def pair(case):
        other = case.rewritten(time_last)
        if "--with" in line:
            return [
                case.values(line.format(other), "v_difference"),
                0.0 * case.values("subset in.nc"),
            ]
        name = "v_trend" if "trend" in line else "v"
        return [
            case.values(line, name),
            case.values(line.replace("in.nc", other), name),
        ]

    return pair


def compared_with_itself_the_other_way(case):
    if not case.regular:
        return None
    other = case.rewritten(rows_reversed)
    turned = case.write(f"convert {other} --longitude -180..180")
    difference = case.values(f"compare in.nc --with {turned}", "v_difference")
    return [difference, 0.0 * difference]


def area_at_once_or_axis_by_axis(case):
    if not case.regular or case.gaps:
        return None
    return [
        case.values("summarise in.nc --over lon then summarise --over lat"),
        case.values("summarise in.nc --over lat,lon"),
    ]


def mean_in_a_formula_or_a_summary(axis, over):
    def pair(case):
        if axis != "time" and not case.regular:
            return None
        return [
            case.values(f"calc in.nc --formula 'mean(v, {axis})' --name w", "w"),
            case.values(f"summarise in.nc --over {over}"),
        ]

    return pair


def one_and_two_dimensions_of_positions(line):
    def pair(case):
        if not case.regular:
            return None
        other = case.rewritten(with_positions_of_two_dimensions)
        box = outline(case)
        asked = line.format(box)
        return [case.values(asked), case.values(asked.replace("in.nc", other))]

    return pair


def own_grid(case):
    if not case.regular:
        return None
    return [case.values("regrid in.nc --like in.nc"), case.values("subset in.nc")]


def months_before_or_after_the_normals(case):
    loose = LOOSE["--base"]
    return [
        case.values(f"subset in.nc --months dec,jan then climatology {loose}"),
        case.values(f"climatology in.nc {loose} then subset --months dec,jan"),
    ]


def years_or_time(case):
    return [
        case.values("subset in.nc --years 2002"),
        case.values("subset in.nc --time 2002"),
    ]


def year_named_after_its_end(case):
    """Twelve months from March are called after the year in which they end, wherever asked."""
    if case.daily:
        return None
    start = "--to year --year-start mar --min-coverage 0"
    return [
        case.values(f"aggregate in.nc {start} then subset --years 2002"),
        case.values(f"subset in.nc --time 2001-03..2002-02 then aggregate {start}"),
    ]


def seasons_named_after_their_end(case):
    if case.daily:
        return None
    return [
        case.values(
            "aggregate in.nc --to season --season oct..jan then subset --years 2003"
        ),
        case.values(
            "subset in.nc --season oct..jan --years 2003 then aggregate --to season "
            "--season oct..jan"
        ),
    ]


def store_or_file(case):
    store = case.write("subset in.nc", ".zarr")
    return [case.values(f"{ANOMALY.replace('in.nc', store)}"), case.values(ANOMALY)]


def median_or_its_percentile(case):
    line = "aggregate in.nc --to month --min-coverage 0 --statistic"
    return [case.values(f"{line} p50"), case.values(f"{line} median")]


def range_or_extremes(case):
    line = "summarise in.nc --over time --statistic"
    return [
        case.values(f"{line} range"),
        case.values(f"{line} max") - case.values(f"{line} min"),
    ]


def variance_or_deviation(case):
    line = "summarise in.nc --over time --statistic"
    return [case.values(f"{line} variance"), case.values(f"{line} std") ** 2]


def with_and_without_bounds(line):
    def pair(case):
        name = "v_trend" if "trend" in line else "v"
        pair = [case.variant(bounds=kept) for kept in (True, False)]
        return [case.values(line.replace("in.nc", file), name) for file in pair]

    return pair


def stamps_anywhere_within_bounds(line):
    def pair(case):
        name = "v_trend" if "trend" in line else "v"
        pair = [case.variant(bounds=True, stamp=at) for at in (0.0, 0.5)]
        return [case.values(line.replace("in.nc", file), name) for file in pair]

    return pair


def covered_time_with_and_without_bounds(line):
    """What a result of all times covers is what its steps cover, told or not."""

    def pair(case):
        pair = [case.variant(bounds=kept) for kept in (True, False)]
        return [case.values(line.format(file), "time_bnds") for file in pair]

    return pair


def slopes_on_a_series_in_two_units(case):
    """Of temperatures in kelvins for each kelvin, whatever scale either is on."""
    if case.what != "state":
        return None
    case.write("summarise in.nc --statistic mean then annotate --rename v=x", ".nc")
    series = f"made{case.made}.nc"
    answers = []
    for units in ("K", "degF"):
        name = case.write(f"convert in.nc --units v={units}")
        other = case.write(f"convert {series} --units x={units}")
        for first, second in ((name, series), ("in.nc", other)):
            line = f"correlate {first} --variable v --with {second} --cycle none"
            answers.append(case.read(case.write(line), "v_regression"))
    return tuple(answers)


def days_or_hours_since(line):
    def pair(case):
        pair = [case.variant(unit=unit) for unit in ("days", "hours")]
        return [case.values(line.replace("in.nc", file)) for file in pair]

    return pair


def mean_of_all_or_no_cycle(case):
    line = f"climatology in.nc --cycle none {LOOSE['--base']}"
    return [case.values(line), case.values("summarise in.nc --over time")]


SLOPE = "trend in.nc --serial-correlation none"
PAIRS = {
    "region in the subset or in the summary": region_in_the_subset_or_in_the_summary,
    "a region around all, or none": region_around_all_or_none,
    "largest within a region": sum_over_a_region_after_or_within,
    "a cut keeps the cells of its rim": rim_of_a_cut_keeps_its_cells,
    "ends of running totals of years": ends_of_the_running_total_or_the_sum,
    "ends of running totals of months": ends_of_the_monthly_total_or_the_sum,
    "a rate for a month by convert or calc": convert_or_calc("mm month-1", "rate"),
    "a rate for a year by convert or calc": convert_or_calc("mm year-1", "rate"),
    "a flux of mass by convert or calc": convert_or_calc("kg m-2 s-1", "rate"),
    "degrees by convert or calc": convert_or_calc("degC", "state"),
    "months through years": there_and_back_through_months,
    "sums of amounts for each year": sum_of_amounts_for_each_year_or_of_rates,
    "means of amounts for each year": mean_of_amounts_for_each_year_or_of_rates,
    "days above a rate": threshold_or_formula(
        "count-above 30mm/day", "v > 30[mm/day]", "rate"
    ),
    "days below a temperature": threshold_or_formula(
        "count-below -240degC", "v < 33.15[K]", "state"
    ),
    "thresholds of departures": thresholds_of_departures_in_two_units,
    "units of departures": departures_in_other_units_before_or_after,
    "units of spread": spread_in_other_units_before_or_after,
    "trend from a long table": trend_from_a_table_or_at_once(""),
    "periods of ten days from a table": year_from_a_table_of_ten_days,
    "months of days": months_of_days_or_days_at_once,
    "packed: departures": packed_or_not(ANOMALY),
    "packed: means": packed_or_not("aggregate in.nc --to month --min-coverage 0"),
    "packed: slopes": packed_or_not(SLOPE),
    "turned: mean": turned_longitudes_before_or_after("summarise in.nc"),
    "turned: departures": turned_longitudes_before_or_after(ANOMALY),
    "rows: mean": rows_the_other_way("summarise in.nc"),
    "rows: box": rows_the_other_way("subset in.nc --lat -40..50"),
    "joined: departures": whole_or_joined(ANOMALY),
    "joined: slopes": whole_or_joined(SLOPE),
    "joined: months": whole_or_joined("aggregate in.nc --to month --min-coverage 0"),
    "command or Python": command_or_python,
    "normals kept or not": normals_kept_or_at_once,
    "axes: slopes": axes_in_another_order(SLOPE),
    "axes: compared": axes_in_another_order("compare in.nc --with {}"),
    "compared with itself turned": compared_with_itself_the_other_way,
    "area or axes": area_at_once_or_axis_by_axis,
    "formula or summary: area": mean_in_a_formula_or_a_summary("area", "area"),
    "formula or summary: time": mean_in_a_formula_or_a_summary("time", "time"),
    "positions: mean": one_and_two_dimensions_of_positions("summarise in.nc"),
    "positions: region": one_and_two_dimensions_of_positions(
        "summarise in.nc --region {}"
    ),
    "own grid": own_grid,
    "months before or after": months_before_or_after_the_normals,
    "years or time": years_or_time,
    "years from March": year_named_after_its_end,
    "long seasons": seasons_named_after_their_end,
    "store or file": store_or_file,
    "median": median_or_its_percentile,
    "range": range_or_extremes,
    "variance": variance_or_deviation,
    "bounds: slopes": with_and_without_bounds(SLOPE),
    "bounds: years": with_and_without_bounds(
        "aggregate in.nc --to year --min-coverage 0"
    ),
    "stamps: slopes": stamps_anywhere_within_bounds(SLOPE),
    "stamps: departures": stamps_anywhere_within_bounds(ANOMALY),
    "units of time": days_or_hours_since(ANOMALY),
    "covered: slopes": covered_time_with_and_without_bounds("trend {}"),
    "covered: means": covered_time_with_and_without_bounds("summarise {} --over time"),
    "covered: harmonics": covered_time_with_and_without_bounds(
        "spectrum {} --harmonics 1"
    ),
    "units of regressions": slopes_on_a_series_in_two_units,
    "all or no cycle": mean_of_all_or_no_cycle,
}


@pytest.mark.slow
@pytest.mark.parametrize("pair", list(PAIRS))
@settings(max_examples=EXAMPLES or 3)
@given(how=files())
def test_both_ways_give_one_answer(tmp_path_factory, pair, how):
    """To 6 digits of the largest value, since files hold single precision; gaps in the same
    places."""
    case = Case(tmp_path_factory.mktemp("pair"), how)
    make(case.folder / "in.nc", how)
    answers = PAIRS[pair](case)
    if answers is None:
        return
    for first, second in itertools.pairwise(np.asarray(answer) for answer in answers):
        assert first.shape == second.shape
        np.testing.assert_array_equal(np.isnan(first), np.isnan(second))
        known = np.abs(np.concatenate([first.ravel(), second.ravel()]))
        largest = np.nanmax(known) if np.isfinite(known).any() else 1.0
        np.testing.assert_allclose(
            first, second, rtol=4e-6, atol=4e-6 * max(largest, 1.0)
        )


@pytest.mark.parametrize("units", ["degF", "degC", "K", "mm"])
@pytest.mark.parametrize(
    "statistic", ["mean", "std", "variance", "range", "max", "median", "count"]
)
@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
def test_a_statistic_of_all_times_is_one_in_three_verbs(units, statistic):
    """Of one year of days: as its period, as its normal, and over its axis; numbers and units."""
    values = np.random.default_rng(4).normal(60, 10, (365, 2, 1))
    name = "wind_speed" if units == "m s-1" else "air_temperature"
    data = make_dataset(
        values,
        times=np.arange(365) + 366.5,
        attributes={"units": units, "standard_name": name},
    )
    ways = (
        Aggregate(to="year", statistic=statistic),
        Climatology(cycle="none", statistic=statistic, min_years=1),
        Summarise(over="time", statistic=statistic),
    )
    results = [way(data)["tas"] for way in ways]
    first = results[0]
    for result in results[1:]:
        np.testing.assert_allclose(
            result.values().ravel(), first.values().ravel(), rtol=1e-12
        )
        for key in ("units", "units_metadata", "standard_name"):
            assert result.attributes.get(key) == first.attributes.get(key), key
