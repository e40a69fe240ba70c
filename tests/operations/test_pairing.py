"""Two datasets are paired place by place, whatever order each lists its places in."""

from __future__ import annotations

import random
from contextlib import nullcontext
from itertools import product

import numpy as np
import pytest

from conftest import make_dataset
from rhodolite import DataError, read
from rhodolite.api.dataset import Dataset
from rhodolite.arrays import InMemory
from rhodolite.model.indexing import take
from rhodolite.model.space.places import order_all_places
from rhodolite.model.variable import Variable

TIMES = {"units": "days since 2000-01-01", "calendar": "standard"}
KELVIN = {"units": "K", "standard_name": "air_temperature"}
VALUES = np.random.default_rng(0).normal(280, 5, (24, 5, 5))


def dataset(values, along, **helpers):
    """A field over time and other dimensions, in memory, with variables beside it."""
    field = Variable("tas", ("time", *along), InMemory(values), KELVIN)
    if "lat" in helpers and helpers["lat"][0] != ("lat",):
        field = field.edit(coordinates="lat lon")
    times = InMemory(15.0 + 30.4375 * np.arange(len(values)))
    variables = [Variable("time", ("time",), times, TIMES), field]
    for name, (dimensions, numbers, about) in helpers.items():
        data = InMemory(np.asarray(numbers))
        variables.append(Variable(name, dimensions, data, about))
    return Dataset({v.name: v for v in variables})


def on_grid(values, north, east, along=("y", "x")):
    return dataset(
        values,
        along,
        lat=(along, north, {"units": "degrees_north"}),
        lon=(along, east, {"units": "degrees_east"}),
    )


def at_sites(values, north, east, names=None):
    helpers = {
        "lat": (("site",), north, {"units": "degrees_north"}),
        "lon": (("site",), east, {"units": "degrees_east"}),
    }
    if names is not None:
        helpers["site"] = (("site",), names, {"cf_role": "timeseries_id"})
    return dataset(values, ("site",), **helpers)


def grid_positions():
    rows, columns = np.mgrid[0:5, 0:5]
    return 50.0 + rows + 0.1 * columns, 177.0 + columns - 0.2 * rows


@pytest.mark.parametrize(
    ("exchanged", "down", "left", "turn"), [*product((False, True), repeat=4)]
)
def test_grids_are_paired_by_position(exchanged, down, left, turn):
    north, east = grid_positions()
    ours = on_grid(VALUES, north, east)
    if turn:
        east = (east + 180.0) % 360.0 - 180.0
    parts = [VALUES + 1.0, north, east]
    rows, columns = (slice(None, None, -1 if back else 1) for back in (down, left))
    parts = [part[..., rows, columns] for part in parts]
    if exchanged:
        parts = [part.swapaxes(-1, -2) for part in parts]
    theirs = on_grid(*parts)
    result = ours.compare(with_=theirs)
    np.testing.assert_allclose(result["tas_bias"].values(), -1.0, rtol=1e-9)
    shifted = ours.adjust(to=theirs, method="mean", cycle="none", by="differences")
    np.testing.assert_allclose(shifted["tas"].values(), VALUES + 1.0, rtol=1e-9)
    np.testing.assert_allclose((ours["tas"] - theirs["tas"]).values(), -1.0, rtol=1e-9)


@pytest.mark.parametrize("kind", ["grid", "named", "unnamed"])
def test_files_of_one_dataset_are_joined_place_by_place(tmp_path, kind):
    """The later years list their places the other way round; those of others are refused."""
    north, east = grid_positions()
    values, order = VALUES, np.arange(5)[::-1]
    if kind != "grid":
        values, north, east = VALUES[:, 0], north[0], east[0]
    make = on_grid if kind == "grid" else at_sites
    names = [np.array(["Aa", "Be", "Ce", "De", "Ee"])] if kind == "named" else []
    parts = {
        "first": make(values[:12], north, east, *names),
        "then": make(
            values[12:][:, order], north[order], east[order], *(n[order] for n in names)
        ),
        "other": make(values[12:], north, east + 2.0, *names),
    }
    for name, part in parts.items():
        if name != "first":
            later = InMemory(15.0 + 30.4375 * np.arange(12, 24))
            time = part.variables["time"].replace(data=later)
            part = part.with_variables(
                time if v.name == "time" else v for v in part.variables.values()
            )
        part.write(tmp_path / f"{name}.nc")
    whole = read([tmp_path / "first.nc", tmp_path / "then.nc"])
    np.testing.assert_array_equal(whole["tas"].values(), values)
    with pytest.raises(DataError, match=r"other places|not the same site"):
        read([tmp_path / "first.nc", tmp_path / "other.nc"])


class Unread(InMemory):
    """Positions that nobody should need."""

    def read(self, region):
        raise AssertionError(f"positions were read: {region}")


@pytest.mark.parametrize("pole", [40.0, 39.0])
def test_positions_of_one_projection_are_not_read(pole):
    """They follow from rows, columns and the projection; of another they are compared."""
    axes = {"units": "degrees"}

    def rotated(values, latitude, kind):
        north, east = grid_positions()
        mapping = {
            "grid_mapping_name": "rotated_latitude_longitude",
            "grid_north_pole_latitude": latitude,
            "grid_north_pole_longitude": 0.0,
        }
        data = on_grid(values, north, east)
        helpers = [
            Variable("y", ("y",), InMemory(np.arange(5.0)), axes),
            Variable("x", ("x",), InMemory(np.arange(5.0)), axes),
            Variable("crs", (), InMemory(np.array(0)), mapping),
        ]
        known = [
            v.replace(data=kind(v.values())) if v.name in ("lat", "lon") else v
            for v in data.variables.values()
        ]
        return data.with_variables([*known, *helpers])

    ours, theirs = rotated(VALUES, 40.0, InMemory), rotated(VALUES, pole, Unread)
    placed = pytest.raises(AssertionError) if pole != 40.0 else nullcontext()
    with placed:
        assert order_all_places(ours, theirs, {"y": "y", "x": "x"}) == {}


@pytest.mark.parametrize(("off", "goes"), [(0.02, True), (0.125, False)])
def test_axes_are_the_same_within_a_small_part_of_a_cell(off, goes):
    """Of half a cell on a fine grid the cells are others, however far the grid reaches."""
    values = np.random.default_rng(1).normal(280, 5, (12, 2, 1440))
    grids = [
        make_dataset(
            values,
            times=15.0 + 30.4375 * np.arange(12),
            lats=[0.0, 0.25],
            lons=0.25 * np.arange(1440) + shift,
        )
        for shift in (0.0, off)
    ]
    if goes:
        assert not grids[0].compare(with_=grids[1])["tas_bias"].values().any()
        return
    with pytest.raises(DataError, match="other longitudes"):
        grids[0].compare(with_=grids[1])


def test_arithmetic_takes_times_in_any_order():
    data = make_dataset(VALUES, times=15.0 + 30.4375 * np.arange(24))
    backwards = take(data, {"time": np.arange(24)[::-1]})
    assert not (data["tas"] - backwards["tas"]).values().any()
    with pytest.raises(DataError, match="runs along"):
        data["tas"] - data.subset(time="2000")["tas"]


def test_places_that_are_others_are_refused():
    north, east = grid_positions()
    ours = on_grid(VALUES, north, east)
    lats, lons = np.arange(5.0), np.arange(5.0)
    axes = dataset(
        VALUES,
        ("lat", "lon"),
        lat=(("lat",), lats, {"units": "degrees_north"}),
        lon=(("lon",), lons, {"units": "degrees_east"}),
    )
    for theirs, message in (
        (on_grid(VALUES, north, east + 1.0), "other places"),
        (axes, "two-dimensional positions in .* along latitudes and longitudes"),
    ):
        for verb in ("compare", "correlate"):
            with pytest.raises(DataError, match=message):
                getattr(ours, verb)(with_=theirs)
        with pytest.raises(DataError):
            (ours["tas"] - theirs["tas"]).values()


@pytest.mark.parametrize("names", ["both", "none", "other names"])
def test_sites_are_paired_by_name_or_position(names):
    values, order = VALUES[:, 0], np.array([3, 0, 4, 1, 2])
    north, east = np.linspace(50, 54, 5), np.array([175.0, 178, -179, -176, -173])
    here = np.array(["Aa", "Be", "Ce", "De", "Ee"])
    there = here if names == "both" else np.char.add("station ", here)
    given = [None, None] if names == "none" else [here, there[order]]
    ours = at_sites(values, north, east, given[0])
    theirs = at_sites(
        values[:, order] + 1.0, north[order], east[order] % 360.0, given[1]
    )
    result = ours.compare(with_=theirs)
    np.testing.assert_allclose(result["tas_bias"].values(), -1.0, rtol=1e-9)
    message = "other places" if names == "none" else "not the same site"
    with pytest.raises(DataError, match=message):
        ours.compare(with_=at_sites(values, north + 3.0, east, given[0]))


@pytest.mark.parametrize("steps", [24, 5])
def test_a_table_goes_with_sites_of_its_names(tmp_path, steps):
    """Rows in any order, without positions, along an axis of another name."""
    values, names = VALUES[:steps, 0], np.array(["Aa", "Be", "Ce", "De", "Ee"])
    ours = at_sites(values, np.linspace(50, 54, 5), np.arange(5.0), names)
    ours = ours.annotate(rename="site=station")
    dates = [str(date)[:7] for date in ours.dates]
    rows = [
        f"{names[site]},{dates[step]},{values[step, site] + 1.0}"
        for site, step in product(range(5), range(steps))
    ]
    random.Random(0).shuffle(rows)
    table = tmp_path / "table.csv"
    table.write_text("\n".join(["site,time,tas [K]", *rows]))
    result = ours.compare(with_=table)
    np.testing.assert_allclose(result["tas_bias"].values(), -1.0, rtol=1e-9)


def test_what_has_names_or_numbers_is_paired_by_them():
    values, order = VALUES[:, 0], np.array([3, 0, 4, 1, 2])
    names = np.array(["North", "South", "East", "West", "Middle"])
    periods = np.array([2.0, 5, 10, 50, 100])
    for about, labels in (({}, names), ({"units": "year"}, periods)):
        ours = dataset(values, ("part",), part=(("part",), labels, about))
        theirs = dataset(
            values[:, order] + 1.0, ("part",), part=(("part",), labels[order], about)
        )
        result = ours.compare(with_=theirs)
        np.testing.assert_allclose(result["tas_bias"].values(), -1.0, rtol=1e-9)
        strange = labels.copy()
        strange[0] = "Far" if labels is names else 3.0
        other = dataset(values, ("part",), part=(("part",), strange, about))
        with pytest.raises(DataError, match="other places"):
            ours.compare(with_=other)
