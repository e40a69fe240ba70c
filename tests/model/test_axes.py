"""Which variables are coordinates, and what the grid's cells are like, from metadata of many
vintages."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_dataset
from rhodolite import DataError
from rhodolite.arrays import InMemory
from rhodolite.model.axes import Coordinate, Role, find_role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import (
    AxisShape,
    area_weights,
    cell_edges,
    covers_globe,
)
from rhodolite.model.units.udunits import (
    convert,
    has_offset_zero,
    is_pressure,
    is_temperature,
    pretty,
)
from rhodolite.model.variable import Variable


def variable(name="x", dimensions=None, values=(0.0, 1.0, 2.0), **attributes):
    values = np.asarray(values)
    dimensions = (name,) * values.ndim if dimensions is None else dimensions
    return Variable(name, dimensions, InMemory(values), attributes)


@pytest.mark.parametrize(
    ("name", "attributes", "role"),
    [
        ("y", {"units": "degrees_north"}, Role.LATITUDE),
        ("a", {"units": "degree_N"}, Role.LATITUDE),
        ("b", {"units": "degreesE"}, Role.LONGITUDE),
        ("c", {"standard_name": "longitude", "units": "degrees"}, Role.LONGITUDE),
        ("d", {"axis": "T", "units": "days since 2000-01-01"}, Role.TIME),
        ("e", {"units": "hours since 1800-01-01 00:00:0.0"}, Role.TIME),
        ("f", {"units": "hPa"}, Role.LEVEL),
        ("g", {"units": "Pa", "positive": "down"}, Role.LEVEL),
        ("depth", {"units": "m"}, Role.LEVEL),
        ("h", {"standard_name": "height", "units": "m"}, Role.LEVEL),
        ("k", {"axis": "Z"}, Role.LEVEL),
        ("Latitude", {}, Role.LATITUDE),
        ("LON", {"units": "degrees"}, Role.LONGITUDE),
        ("nav_lat", {}, Role.LATITUDE),
        (
            "x",
            {"standard_name": "projection_x_coordinate", "axis": "X", "units": "m"},
            None,
        ),
        ("x", {"axis": "X", "units": "km"}, None),
        ("member", {"units": "1"}, None),
        ("time", {"units": "1"}, None),
        ("temperature", {"units": "K"}, None),
    ],
)
def test_roles_follow_the_metadata_first_and_names_last(name, attributes, role):
    assert find_role(variable(name, **attributes)) is role


def test_of_two_candidates_the_one_that_data_run_along_is_taken():
    data = Dataset(
        {
            v.name: v
            for v in (
                variable("lat_old", units="degrees_north"),
                variable("lat_new", values=(5.0, 6.0), units="degrees_north"),
                variable("t", ("lat_new",), (1.0, 2.0), units="K"),
            )
        }
    )
    assert data.need(Role.LATITUDE).name == "lat_new"
    assert [v.name for v in data.fields] == ["t"]


def test_helpers_are_not_data_and_travel_with_what_they_describe():
    data = Dataset(
        {
            v.name: v
            for v in (
                variable("lat", units="degrees_north", bounds="lat_edges"),
                variable("lat_edges", ("lat", "nv"), np.zeros((3, 2))),
                variable("height", (), 2.0, units="m", positive="up"),
                variable("crs", (), 0, grid_mapping_name="latitude_longitude"),
                variable("label", ("lat",), np.array(["a", "b", "c"])),
                variable(
                    "t", ("lat",), units="K", coordinates="label", grid_mapping="crs"
                ),
                variable("q", ("lat",), units="1"),
            )
        }
    )
    assert [v.name for v in data.fields] == ["t", "q"]
    assert set(data.restrict(["t"]).variables) == {
        "lat",
        "lat_edges",
        "height",
        "crs",
        "label",
        "t",
    }
    assert set(data.restrict(["q"]).variables) == {"lat", "lat_edges", "height", "q"}


def test_what_is_missing_or_has_gaps_is_told():
    data = make_dataset(np.zeros((2, 3, 4)), lats=[0, np.nan, 2])
    with pytest.raises(
        DataError, match=r"latitude coordinate \(lat\) has missing values"
    ):
        data.need(Role.LATITUDE)
    with pytest.raises(
        DataError, match="there is no vertical axis; one is identified by"
    ):
        data.need(Role.LEVEL)
    with pytest.raises(DataError, match="the time axis \\(time\\) has no steps"):
        make_dataset(np.zeros((0, 3, 4))).need_time()
    with pytest.raises(
        DataError, match=r"the latitude coordinate \(lat\) goes up and down"
    ):
        cell_edges(
            make_dataset(np.zeros((2, 3, 4)), lats=[0, 2, 1]).need(Role.LATITUDE)
        )


def axis(role, values, bounds=None):
    name = role.value
    edges = (
        None
        if bounds is None
        else variable("b", (name, "nv"), np.asarray(bounds, float))
    )
    return Coordinate(role, variable(name, values=np.asarray(values, float)), edges)


@given(st.integers(2, 90), st.booleans())
def test_edges_lie_halfway_and_stop_at_the_poles(count, falling):
    step = 180 / count
    centres = (-90 + step * (np.arange(count) + 0.5))[:: -1 if falling else 1]
    edges = cell_edges(axis(Role.LATITUDE, centres))
    np.testing.assert_allclose(
        np.sort(edges), np.linspace(-90, 90, count + 1), atol=1e-9
    )
    assert area_weights(axis(Role.LATITUDE, centres)).sum() == pytest.approx(
        2, rel=1e-13
    )
    with_poles = cell_edges(axis(Role.LATITUDE, np.linspace(-90, 90, count)))
    assert (with_poles.min(), with_poles.max()) == (-90, 90)


def test_edges_come_from_bounds_in_either_order_where_they_join_up():
    assert cell_edges(axis(Role.LATITUDE, [1, 4], [[0, 3], [3, 9]])).tolist() == [
        0,
        3,
        9,
    ]
    assert cell_edges(axis(Role.LATITUDE, [1, 4], [[3, 0], [9, 3]])).tolist() == [
        0,
        3,
        9,
    ]
    assert cell_edges(axis(Role.LATITUDE, [4, 1], [[3, 9], [0, 3]])).tolist() == [
        9,
        3,
        0,
    ]
    assert cell_edges(axis(Role.LATITUDE, [1, 4], [[0, 1], [3, 9]])).tolist() == [
        -0.5,
        2.5,
        5.5,
    ]


def test_longitudes_that_turn_over_in_the_middle_are_in_order():
    edges = cell_edges(axis(Role.LONGITUDE, [0, 90, -180, -90]))
    assert edges.tolist() == [-45, 45, 135, 225, 315]
    assert covers_globe(np.arange(0, 360, 2.5))
    assert not covers_globe(np.arange(0, 350, 2.5))


def test_spacing_is_told_only_where_it_is_the_same_everywhere():
    assert AxisShape.of(np.arange(54, 72.25, 0.5)).spacing == 0.5
    assert AxisShape.of(
        np.float32(np.arange(0, 10, 0.1)).astype(float)
    ).spacing == pytest.approx(0.1, rel=1e-6)
    assert AxisShape.of(np.array([1.0, 2.0, 4.0])).spacing is None
    assert AxisShape.of(np.array([3.0, 2.0, 1.0])).direction == "decreasing"


def test_units_are_those_of_udunits():
    assert convert(1.0, "bar", "hPa") == pytest.approx(1000)
    assert convert(np.array([0.0, 100.0]), "degC", "K").tolist() == [273.15, 373.15]
    assert [is_pressure(u) for u in ("hPa", "mbar", "dbar", "m", "nonsense", "1")] == [
        True,
        True,
        True,
        False,
        False,
        False,
    ]
    assert [is_temperature(u) for u in ("K", "degC", "W")] == [True, True, False]
    assert [has_offset_zero(u) for u in ("degC", "K", "mm")] == [True, False, False]
    assert [pretty(u) for u in ("K (10 year)-1", "(100 year)-1")] == [
        "K per decade",
        "per century",
    ]
    assert [pretty(u) for u in ("kg m-2 s-1", "degC", "W m-2", "1", None, "%")] == [
        "kg m⁻² s⁻¹",
        "°C",
        "W m⁻²",
        "",
        "",
        "%",
    ]
