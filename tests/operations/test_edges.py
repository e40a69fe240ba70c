"""Edges: typed decimals on rounded coordinates, wide outlines, repeated columns, cells that are
barely met."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_dataset
from rhodolite import Regrid, Relevel, Subset, Summarise
from rhodolite.api.dataset import Dataset
from rhodolite.arrays import InMemory
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.variable import Variable


def field(lats, lons, kind="f8", values=None):
    """A field over axes kept in a type."""
    values = (
        np.random.default_rng(0).random((1, len(lats), len(lons)))
        if values is None
        else values
    )
    data = make_dataset(values, times=[0], lats=lats, lons=lons)
    made = [
        v.replace(data=InMemory(v.values().astype(kind)))
        if v.name in ("lat", "lon")
        else v
        for v in data.variables.values()
    ]
    return data.with_variables(made)


def box(path, west, east, south=-20.0, north=20.0, *, steps=1):
    """A GeoJSON box, counter-clockwise, with so many points along each side."""
    x = np.concatenate(
        [np.linspace(west, east, steps + 1), np.linspace(east, west, steps + 1)]
    )
    y = np.repeat([south, north], steps + 1)
    ring = np.stack([x, y], axis=1).tolist()
    geometry = {"type": "Polygon", "coordinates": [[*ring, ring[0]]]}
    path.write_text(
        json.dumps(
            {"type": "Feature", "properties": {"name": "box"}, "geometry": geometry}
        )
    )
    return str(path)


@given(
    st.integers(-900, 800),
    st.integers(2, 60),
    st.sampled_from([0.1, 0.05, 0.25]),
    st.sampled_from(["f4", "f8"]),
    st.booleans(),
)
def test_typed_decimals_find_their_single_precision(first, count, step, kind, widened):
    """Both ends of a range are kept, whatever type the coordinate has or had before it was
    widened."""
    values = (np.round(np.arange(count) * step + first / 10 + 90, 4)).astype(kind)
    lats = np.linspace(-10, 10, 3)
    data = field(lats, values, "f8" if widened else kind)
    west, east = (f"{round(float(end), 4):g}" for end in (values[0], values[-1]))
    assert Subset(lon=f"{west}..{east}")(data).lengths["lon"] == count
    inner = Subset(lon=f"{round(float(values[1]), 4):g}..{east}")(data)
    assert inner.lengths["lon"] == count - 1


@pytest.mark.parametrize("kind", ["f4", "f8"])
def test_targets_and_bands_get_no_row_too_many(kind):
    lats, lons = (
        np.arange(a, b, 0.1, dtype="f8") + 0.05 for a, b in ((30, 34), (270.3, 272.3))
    )
    data = field(lats.astype(kind), lons.astype(kind), kind)
    made = Regrid(to="1")(data)
    assert (made.lengths["lat"], made.lengths["lon"]) == (4, 3)
    assert Summarise(latitude_bands=1)(data).lengths["lat"] == 4
    counts = Summarise(latitude_bands=1, statistic="count")(data)["tas"].values()
    np.testing.assert_array_equal(counts, 10 * 20)


@pytest.mark.parametrize("kind", ["f4", "f8"])
def test_the_outermost_level_is_a_level(kind):
    levels = np.array([0.1, 0.7, 10.3], kind)
    values = np.arange(3.0)[:, None, None] * np.ones((3, 2, 2))
    parts = [
        Variable(
            "depth", ("depth",), InMemory(levels), {"units": "m", "positive": "down"}
        ),
        *field([0, 1], [0, 1]).variables.values(),
    ]
    variables = {v.name: v for v in parts if v.name in ("depth", "lat", "lon")}
    variables["t"] = Variable(
        "t", ("depth", "lat", "lon"), InMemory(values), {"units": "K"}
    )
    found = Relevel(to="0.1m,10.3m")(Dataset(variables))["t"].values()
    np.testing.assert_array_equal(found[:, 0, 0], [0, 2])


@pytest.mark.parametrize(
    ("west", "east"), [(-180, 180), (0, 360), (-170, 170), (-100, 120), (10, 350)]
)
@pytest.mark.parametrize("steps", [1, 40])
@pytest.mark.parametrize("start", [0.0, -180.0])
def test_wide_boxes_are_what_they_say(tmp_path, west, east, steps, start):
    """The mean within a box of any width is that of the columns between its sides (straight in
    degrees)."""
    lons = np.arange(36) * 10.0 + start + 5
    data = field(np.arange(-35, 36, 10.0), lons)
    path = box(tmp_path / "box.geojson", west, east, steps=steps)
    inside = (
        (np.mod(lons - west, 360) < east - west)
        if east - west < 360
        else np.ones(36, bool)
    )
    inner = data["tas"].values()[0][2:6][:, inside]
    weights = np.repeat(
        np.abs(np.diff(np.sin(np.radians(np.arange(-20, 21, 10)))))[:, None],
        inside.sum(),
        axis=1,
    )
    found = data.summarise(region=path)["tas"].values()
    np.testing.assert_allclose(
        found.reshape(-1), np.average(inner, weights=weights), rtol=1e-12
    )


@pytest.mark.parametrize("steps", [1, 40])
def test_an_outline_across_the_dateline_goes_the_short_way(tmp_path, steps):
    """Written with a jump: many short edges, or a box that would be inside out if it went the long
    way."""
    x = np.concatenate(
        [np.linspace(170, 190, steps + 1), np.linspace(190, 170, steps + 1)]
    )
    x = (x + 180) % 360 - 180
    ring = np.stack([x, np.repeat([-20.0, 20.0], steps + 1)], axis=1).tolist()
    (tmp_path / "a.geojson").write_text(
        json.dumps({"type": "Polygon", "coordinates": [[*ring, ring[0]]]})
    )
    data = field(np.arange(-35, 36, 10.0), np.arange(36) * 10.0 + 5)
    assert data.subset(region=str(tmp_path / "a.geojson")).lengths["lon"] == 2


def test_overlapping_outlines_count_once(tmp_path):
    """Two boxes that share cells, one counted beyond the dateline, cover what one box around both
    covers."""
    data = field(np.arange(-35, 36, 10.0), np.arange(36) * 10.0 + 5)
    both = ",".join(
        [box(tmp_path / "a.geojson", 151, 187), box(tmp_path / "b.geojson", -196, -163)]
    )
    one = box(tmp_path / "c.geojson", 151, 197)
    first, second = (
        data.subset(region=name)["covered_area"].values() for name in (both, one)
    )
    np.testing.assert_allclose(first, second, rtol=1e-9)


def test_cells_that_are_touched_by_rounding_do_not_count(tmp_path):
    data = field(np.arange(-35, 36, 10.0), np.arange(36) * 10.0 + 5)
    path = box(tmp_path / "a.geojson", 10 - 1e-13, 30 + 1e-13, -20 - 1e-13, 20 + 1e-13)
    for statistic, expected in (
        ("count", 8),
        ("max", data["tas"].values()[0][2:6, 1:3].max()),
    ):
        for made in (
            data.summarise(region=path, statistic=statistic),
            Summarise(statistic=statistic)(data.subset(region=path)),
        ):
            np.testing.assert_allclose(made["tas"].values().reshape(-1), expected)
    assert data.subset(region=path, cells="touched")["tas"].values().shape[1:] == (4, 2)


def test_a_repeated_column_and_bounds_beyond_the_poles_count_once():
    lons, lats = np.arange(0, 361, 30.0), np.arange(-90, 91, 30.0)
    random = np.random.default_rng(0).random((1, 7, 12))
    twice = field(lats, lons, values=np.concatenate([random, random[..., :1]], axis=-1))
    once = field(lats, lons[:-1], values=random)
    for operation in (
        Summarise(),
        Summarise(over="lon"),
        Summarise(latitude_bands=30),
        Regrid(to="45"),
    ):
        np.testing.assert_allclose(
            operation(twice)["tas"].values(),
            operation(once)["tas"].values(),
            rtol=1e-12,
        )
    bounds = np.stack([lats - 15, lats + 15], axis=1)  # to 105 degrees
    lat = once.variables["lat"].edit(bounds="lat_bnds")
    wide = once.with_variables(
        [
            lat,
            Variable("lat_bnds", ("lat", "b"), InMemory(bounds)),
            *(v for v in once.variables.values() if v.name != "lat"),
        ]
    )
    np.testing.assert_allclose(
        Summarise()(wide)["tas"].values(), Summarise()(once)["tas"].values(), rtol=1e-12
    )


@given(st.integers(0, 99))
def test_cropping_changes_no_cell(seed):
    """The area of each cell of an uneven grid is the same before and after a crop, down to a single
    cell."""
    random = np.random.default_rng(seed)
    lats, lons = (
        np.sort(random.choice(np.arange(-80, 81), 7, replace=False)),
        np.cumsum(random.integers(1, 9, 8)),
    )
    data = field(lats.astype(float), lons.astype(float))
    rows, columns = np.sort(random.choice(7, 2)), np.sort(random.choice(8, 2))
    part = Subset(
        lat=f"{lats[rows[0]]}..{lats[rows[1]]}",
        lon=f"{lons[columns[0]]}..{lons[columns[1]]}",
    )(data)
    expected = mesh_of(data).areas[rows[0] : rows[1] + 1, columns[0] : columns[1] + 1]
    np.testing.assert_allclose(mesh_of(part).areas, expected, rtol=1e-12)
