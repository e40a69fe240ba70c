"""How longitudes are numbered says nothing of where data lie: from 0, from -180, or onward."""

from __future__ import annotations

import json

import netCDF4
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import run_here, write_plain
from rhodolite import DataError, read
from rhodolite.checking import check
from rhodolite.drawing import all_drawings
from rhodolite.model.space.extent import find_ends, increasing
from rhodolite.server.grid import Grid

NUMBERS = {
    "from 0": lambda longitudes: longitudes % 360.0,
    "from -180": lambda longitudes: (longitudes + 180.0) % 360.0 - 180.0,
    "onward": lambda longitudes: longitudes,
}
KINDS = ["axes", "positions", "sites"]


def write_any(path, east, kind, how):
    """The same 24 values at 4 by 6 places from a longitude on, as axes, positions or sites."""
    lats, lons = np.arange(50.0, 54.0), east + np.arange(6.0)
    values = 280.0 + np.arange(24.0).reshape(1, 4, 6)
    if kind == "axes":
        write_plain(path, values, lats=lats, lons=NUMBERS[how](lons))
        return read(path)
    north, east = np.meshgrid(lats, lons, indexing="ij")
    east = NUMBERS[how](east + 0.1 * np.arange(4)[:, None])
    along = {"y": 4, "x": 6} if kind == "positions" else {"site": 24}
    with netCDF4.Dataset(path, "w") as file:
        for name, size in along.items():
            file.createDimension(name, size)
        for name, part, about in (
            ("lat", north, {"units": "degrees_north"}),
            ("lon", east, {"units": "degrees_east"}),
            ("tas", values, {"units": "K", "coordinates": "lat lon"}),
        ):
            variable = file.createVariable(name, "f8", tuple(along))
            variable.setncatts(about)
            variable[:] = part.reshape(variable.shape)
    return read(path)


@given(
    st.lists(st.integers(0, 3599), min_size=1, max_size=12, unique=True),
    st.lists(st.sampled_from([-360.0, 0.0, 360.0]), min_size=12, max_size=12),
)
def test_ends_are_those_of_the_shortest_way(tenths, turns):
    """Against the shortest of the ways that begin at each place."""
    places = np.array(tenths) / 10
    longitudes = places + np.array(turns[: places.size])
    west, east = find_ends(longitudes)
    assert west in longitudes and east in longitudes
    shortest = min(np.ptp((places - first + 1e-9) % 360.0) for first in places)
    width = increasing(west, east)[1] - west
    assert width % 360.0 == pytest.approx(shortest, abs=1e-6)


def test_places_all_round_the_globe_begin_where_their_numbers_do():
    """The widest of many narrow gaps is there by chance, and tells nothing."""
    longitudes = np.random.default_rng(0).uniform(-180.0, 180.0, 2000)
    assert find_ends(longitudes) == (longitudes.min(), longitudes.max())


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("east", [177.0, -3.0])
@pytest.mark.parametrize(
    ("wanted", "off", "columns"),
    [
        ("{}..", 0, 3),
        ("..{}", 0, 3),
        ("{}..", 360, 3),
        ("{}..", -90, 6),
        ("..{}", 90, 6),
        ("{}..", 90, 0),
        ("..{}", -90, 0),
    ],
)
def test_open_ranges_end_where_data_do(tmp_path, kind, east, wanted, off, columns):
    wanted = wanted.format(east + 2.65 + off)
    for how in NUMBERS:
        data = write_any(tmp_path / f"{how}.nc", east, kind, how)
        if not columns:
            with pytest.raises(DataError, match="lies there"):
                data.subset(lon=wanted)
            continue
        values = data.subset(lon=wanted)["tas"].values()
        first = 0 if columns == 6 or wanted.startswith("..") else 3
        expected = 280 + np.arange(24).reshape(4, 6)[:, first : first + columns]
        known = np.sort(values[np.isfinite(values)])
        np.testing.assert_array_equal(known, np.sort(expected.ravel()))


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(("how", "end"), [("from 0", 182.0), ("from -180", -178.0)])
def test_extents_are_told_as_the_data_have_them(tmp_path, kind, how, end):
    data = write_any(tmp_path / "in.nc", 177.0, kind, how)
    end += 0.0 if kind == "axes" else 0.3
    where = json.loads(run_here("inspect", tmp_path / "in.nc", "--json").out)["where"]
    assert (where["west"], where["east"]) == pytest.approx((177.0, end))
    data.write(tmp_path / "copy.nc")
    about = read(tmp_path / "copy.nc").attributes
    ends = about["geospatial_lon_min"], about["geospatial_lon_max"]
    # Axes are written as numbers that go on.
    assert ends == pytest.approx((177.0, 182.0 if kind == "axes" else end))
    if kind == "positions":
        assert Grid(data).extent == pytest.approx((177.0, 50.0, 182.3, 53.0))


@pytest.mark.parametrize("how", ["from 0", "from -180"])
def test_written_longitudes_go_on_where_they_begin_anew(tmp_path, how):
    east = 177.0 if how == "from -180" else 357.0
    data = write_any(tmp_path / "in.nc", east, "axes", how)
    assert (np.diff(data["lon"].values()) < 0).any()
    data.write(tmp_path / "out.nc")
    written = read(tmp_path / "out.nc")
    np.testing.assert_array_equal(written["lon"].values(), east + np.arange(6.0))
    np.testing.assert_array_equal(written["tas"].values(), data["tas"].values())
    assert not [found for found in check(written) if found.severity == "error"]
    # Of what has longitudes alone a curve runs along them.
    row = data.summarise(over="lat").summarise(over="time")
    (curve,) = all_drawings()["profile"]()(row).axes[0].lines
    np.testing.assert_array_equal(curve.get_xdata(), east + np.arange(6.0))
