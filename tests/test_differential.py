"""Random files through random chains, against a plain second implementation of what each step
means."""

from __future__ import annotations

import itertools
from datetime import timedelta

import cftime
import netCDF4
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import EXAMPLES, run_here
from oracle import plain

CALENDARS = ("standard", "proleptic_gregorian", "noleap", "360_day", "all_leap")
KINDS = {
    "state": {"units": "K", "cell_methods": "time: mean"},
    "difference": {"units": "K", "long_name": "temperature anomaly"},
    "rate": {"units": "mm day-1"},
    "month rate": {"units": "mm month-1"},
    "year rate": {"units": "mm year-1"},
    "amount": {"units": "mm", "cell_methods": "time: sum"},
}


def starts_of(calendar, daily, count, hours=None):
    if daily or hours:
        first = cftime.datetime(2001, 11, 20, calendar=calendar)
        return [first + timedelta(hours=(hours or 24) * at) for at in range(count + 1)]
    return [
        cftime.datetime(2001 + at // 12, at % 12 + 1, 1, calendar=calendar)
        for at in range(count + 1)
    ]


@st.composite
def files(draw, kinds=("state", "rate", "amount"), hours=(None,)):
    """How a file is made: its axes, storage, marks and gaps."""
    daily, hours = draw(st.booleans()), draw(st.sampled_from(hours))
    if hours:  # whole days, whose stamps can be the ends of the steps
        count = draw(st.integers(12, 50)) * (24 // hours)
    else:
        count = draw(st.integers(100, 160) if daily else st.integers(36, 60))
    bounds = draw(st.booleans())
    inside = [0.0, 0.5] if bounds or not hours else [0.0, 1.0]
    return {
        "hours": hours,
        "seed": draw(st.integers(0, 10_000)),
        "daily": daily,
        "calendar": draw(st.sampled_from(CALENDARS)),
        "count": count,
        "rows": draw(st.integers(3, 5)),
        "columns": draw(st.integers(4, 6)),
        "falling": draw(st.booleans()),
        "west": draw(st.sampled_from([0.0, -180.0, 100.0])),
        "stamp": draw(st.sampled_from(inside)),
        "bounds": bounds,
        "kind": draw(st.sampled_from(["f4", "f8", "i2", "u1", "i4"])),
        "unit": draw(st.sampled_from(["days", "hours"])),
        "gaps": draw(st.sampled_from([0.0, 0.05])),
        "what": draw(st.sampled_from(kinds)),
        "two_marks": draw(st.booleans()),
        "coordinate": draw(st.sampled_from(["f4", "f8"])),
        "rough": draw(st.booleans()),
        "curvilinear": draw(st.booleans()),
        "steps_of_chunk": draw(st.sampled_from([1, 7])),
    }


def make(path, how):
    """Write the file; return the beginnings and ends of its steps."""
    random = np.random.default_rng(how["seed"])
    calendar = how["calendar"]
    dates = starts_of(calendar, how["daily"], how["count"], how["hours"])
    cells = list(itertools.pairwise(dates))
    stamps = [first + (after - first) * how["stamp"] for first, after in cells]
    lat = np.linspace(-60, 70, how["rows"]) + (
        random.random(how["rows"]) * 5 if how["rough"] else 0
    )
    lon = how["west"] + np.arange(how["columns"]) * 40.0
    lat = np.round(lat[::-1] if how["falling"] else lat, 2)
    with netCDF4.Dataset(path, "w") as file:
        for name, n in (
            ("time", how["count"]),
            ("lat", lat.size),
            ("lon", lon.size),
            ("b", 2),
        ):
            file.createDimension(name, n)
        units = f"{how['unit']} since 1850-01-01"
        time = file.createVariable("time", "f8", ("time",))
        time.setncatts({"units": units, "calendar": calendar})
        time[:] = cftime.date2num(stamps, units, calendar)
        if how["bounds"]:
            time.bounds = "time_bounds"
            ends = cftime.date2num(np.array(cells), units, calendar)
            file.createVariable("time_bounds", "f8", ("time", "b"))[:] = ends
        positions, along = (lat, lon), (("lat",), ("lon",))
        if how["curvilinear"]:
            turned = (
                np.add.outer(lat, np.linspace(-6, 6, lon.size)),
                np.add.outer(np.linspace(-9, 9, lat.size), lon / 8),
            )
            positions, along = (
                tuple(np.round(part, 2) for part in turned),
                (("y", "x"),) * 2,
            )
            file.createDimension("y", lat.size)
            file.createDimension("x", lon.size)
        for name, values, dims, unit in zip(
            ("lat", "lon"),
            positions,
            along,
            ("degrees_north", "degrees_east"),
            strict=True,
        ):
            file.createVariable(name, how["coordinate"], dims).units = unit
            file[name][:] = values
        kind, shape = np.dtype(how["kind"]), (how["count"], lat.size, lon.size)
        whole = kind.kind in "iu"
        mark = {"i2": -32768, "u1": 255, "i4": -9999}.get(how["kind"], 1e20)
        grid = ("y", "x") if how["curvilinear"] else ("lat", "lon")
        made = file.createVariable(
            "v",
            kind,
            ("time", *grid),
            fill_value=mark,
            chunksizes=(how["steps_of_chunk"], 2, 3),
        )
        made.set_auto_maskandscale(False)
        made.setncatts(
            KINDS[how["what"]]
            | ({"coordinates": "lat lon"} if how["curvilinear"] else {})
        )
        if whole:
            made.setncatts({"scale_factor": 0.25, "add_offset": 10.0})
        values = (
            random.integers(0, 200, shape) if whole else random.random(shape) * 50 + 1
        )
        missing = random.random(shape) < how["gaps"]
        values = np.where(missing, mark, values)
        if how["two_marks"]:
            second = 201 if whole else 1e30
            made.missing_value = np.array([mark, second], kind)
            values = np.where(random.random(shape) < how["gaps"], second, values)
        made[:] = values
    return cells


STEPS = (
    *(
        "lat",
        "lon",
        "months",
        "years",
        "aggregate",
        "area",
        "anomaly",
        "climatology",
        "trend",
    ),
    *("convert", "accumulate"),
)
OTHER_UNITS = {
    "K": ("degC", "degF"),
    "degC": ("K", "degF"),
    "mm": ("cm",),
    "mm day-1": ("mm month-1", "mm year-1", "cm month-1"),
    "mm month-1": ("mm day-1", "mm year-1", "cm day-1"),
    "mm year-1": ("mm day-1", "mm month-1", "cm day-1"),
}


def apply(step, random, field):
    """Return a step as it is typed and what it should give; None where it does not apply."""
    if field.lat.ndim == 2 and step in ("lat", "lon", "area"):
        south = float(random.integers(-60, 20))
        made = plain.block_between(field, south, 55) if step == "lat" else None
        return None if made is None else (["subset", "--lat", f"{south:g}..55"], made)
    if step in ("lat", "lon", "months", "years"):
        typed, made = choose(step, random, field)
        return (["subset", *typed], made) if made.values.size else None
    if step == "aggregate":
        return gather(random, field)
    if step == "area":
        return ["summarise"], plain.summarise_area(field)
    if step == "convert":
        return change(random, field)
    if step == "accumulate":
        adds = field.amounts or field.per is not None
        return (["accumulate"], plain.accumulate(field)) if adds else None
    years = {plain.middle(cell).year for cell in field.cells}
    monthly = max(plain.days(cell) for cell in field.cells) <= 31.5
    if step in ("anomaly", "climatology"):
        made = {"anomaly": plain.anomaly, "climatology": plain.climatology}[step]
        return ([step], made(field)) if len(years) >= 3 and monthly else None
    return (["trend"], plain.trend(field)) if len(field.cells) >= 3 else None


def choose(step, random, field):
    """A part of the field, and how it is typed."""
    if step == "lat":
        south = float(random.integers(-70, 0))
        return ["--lat", f"{south:g}..60"], plain.subset_lat(field, south, 60)
    if step == "lon":
        west = float(random.integers(-180, 180))
        made = plain.subset_lon(field, west, west + 250)
        return ["--lon", f"{west:g}..{west + 250:g}"], made
    if step == "months":
        months = sorted({int(at) for at in random.integers(1, 13, 5)})
        return ["--months", ",".join(map(str, months))], plain.subset_months(
            field, months
        )
    return ["--years", "2002..2003"], plain.subset_years(field, 2002, 2003)


def change(random, field):
    """The same in other units, of rates only where a month or year is one of all that a step
    covers."""
    others = OTHER_UNITS.get(field.unit)
    if others is None:
        return None
    unit = str(random.choice(others))
    return ["convert", "--units", unit], plain.convert(field, unit)


def gather(random, field):
    """A statistic of periods that are longer than the steps."""
    longest = max(plain.days(cell) for cell in field.cells)
    spans = {"day": 1, "month": 28, "season": 28, "year": 360}
    finer = [
        unit
        for unit, days in spans.items()
        if days >= longest * 0.9 and longest != days
    ]
    if not finer:
        return None
    unit = str(random.choice(finer))
    limit = (
        f"count-{random.choice(['above', 'below'])} {random.integers(5, 60) + 0.1:.1f}"
    )
    kind = str(random.choice(["mean", "sum", "min", "max", limit]))
    interval = field.unit in ("degC", "degF") and not field.difference
    if kind == "sum" and (longest > 31.5 or interval):
        return None
    return ["aggregate", "--to", unit, "--statistic", kind], plain.aggregate(
        field, unit, kind
    )


@pytest.mark.slow
@settings(max_examples=EXAMPLES or 60)
@given(
    files(kinds=tuple(KINDS), hours=(None, None, 1, 3, 12)),
    st.lists(st.sampled_from(STEPS), min_size=1, max_size=4),
)
def test_chains_agree_with_the_plain_implementation(tmp_path_factory, how, wanted):
    """To 6 digits of the largest value where float32 is written, gaps in exactly the same
    places."""
    folder = tmp_path_factory.mktemp("chain")
    cells = make(folder / "in.nc", how)
    field = plain.read(
        folder / "in.nc", "v", cells, difference=how["what"] == "difference"
    )
    random = np.random.default_rng(how["seed"])
    words, name = [], "v"
    for step in wanted:
        if field.cells[0] is None:
            break
        if step == "area" and any("summarise" in one for one in words):
            continue
        if step in ("lat", "lon") and any("summarise" in one for one in words):
            continue
        found = apply(step, random, field)
        if found is None:
            continue
        typed, field = found
        words.append([str(word) for word in typed])
        name = "v_trend" if step == "trend" else name
    if not words:
        return
    line = [words[0][0], "in.nc", *words[0][1:]]
    for one in words[1:]:
        line += ["then", *one]
    answer = run_here(*line, "--memory", "1MiB", "-o", "out.nc", folder=folder)
    assert answer.code == 0, (line, answer.err)
    with netCDF4.Dataset(folder / "out.nc") as file:
        made = np.ma.filled(file[name][:].astype(np.float64), np.nan)
    expected = field.values.reshape(made.shape)
    np.testing.assert_array_equal(np.isnan(made), np.isnan(expected), err_msg=str(line))
    scale = np.nanmax(np.abs(expected)) if np.isfinite(expected).any() else 1.0
    np.testing.assert_allclose(
        made, expected, rtol=2e-6, atol=2e-6 * max(scale, 1), err_msg=str(line)
    )


@pytest.mark.parametrize("seed", range(3))
def test_the_plain_implementation_is_right_itself(seed):
    """Against sums by NumPy on a case without gaps: months of 30 days, cells of equal width."""
    random = np.random.default_rng(seed)
    values = random.random((24, 3, 4))
    dates = starts_of("360_day", False, 24)
    lat, lon = np.array([-30.0, 0, 30]), np.arange(4) * 90.0
    field = plain.Field(
        values,
        list(itertools.pairwise(dates)),
        lat,
        lon,
        plain.edges(lat, 90),
        plain.edges(lon, 1e9),
    )
    np.testing.assert_allclose(
        plain.aggregate(field, "year", "mean").values,
        values.reshape(2, 12, 3, 4).mean(axis=1),
    )
    weights = np.abs(np.diff(np.sin(np.radians([-45, -15, 15, 45]))))
    np.testing.assert_allclose(
        plain.summarise_area(field).values[:, 0, 0],
        np.average(values.mean(axis=2), axis=1, weights=weights),
    )
