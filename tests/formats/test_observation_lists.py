"""Observations of sites one after another: every way of CF to list them is read as the same table,
which a dictionary of observations has written down."""

from __future__ import annotations

import netCDF4
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import run_here
from rhodolite.errors import DataError

OBSERVED = st.dictionaries(
    st.tuples(st.integers(0, 2), st.integers(0, 6), st.integers(0, 2)),
    st.integers(-300, 300),
    min_size=1,
    max_size=25,
)
LATITUDES, LONGITUDES = [10.0, 20.0, 30.0], [5.0, 6.0, 355.0]
HEIGHTS = [2.0, 10.0, 50.0]


def add(file, name, dimensions, values, kind="f8", **about):
    fill = about.pop("_FillValue", None)
    variable = file.createVariable(name, kind, dimensions, fill_value=fill)
    variable.setncatts(about)
    variable.set_auto_maskandscale(False)
    variable[:] = np.asarray(values)


def add_sites(file):
    file.createDimension("station", 3)
    add(file, "lat", ("station",), LATITUDES, units="degrees_north")
    add(file, "lon", ("station",), LONGITUDES, units="degrees_east")


def add_observations(file, keys, observed, dimensions=("obs",), shape=(-1,), at=None):
    """Write times, their bounds, and packed values, at some places of rows that are longer."""
    at = np.arange(len(keys)) if at is None else at
    size = len(keys) if shape == (-1,) else int(np.prod(shape))
    times, values = np.full(size, -999.0), np.full(size, -32768)
    times[at] = [key[1] for key in keys]
    values[at] = [observed[key] for key in keys]
    about = {"units": "days since 2001-01-01", "_FillValue": -999.0}
    add(file, "time", dimensions, times.reshape(shape), **about, bounds="time_bnds")
    file.createDimension("nv", 2)
    bounds = np.stack([times - 0.5, times + 0.5], axis=-1).reshape(*shape, 2)
    add(file, "time_bnds", (*dimensions, "nv"), bounds)
    add(
        file,
        "tas",
        dimensions,
        values.reshape(shape),
        "i2",
        _FillValue=np.int16(-32768),
        scale_factor=np.float32(0.5),
        add_offset=np.float32(10),
        units="degC",
        coordinates="time lat lon",
    )


def write_contiguous(path, observed):
    keys = sorted(observed)
    with netCDF4.Dataset(path, "w") as file:
        add_sites(file)
        file.createDimension("obs", len(keys))
        counts = [sum(key[0] == site for key in keys) for site in range(3)]
        add(file, "n", ("station",), counts, "i4", sample_dimension="obs")
        add_observations(file, keys, observed)


def write_indexed(path, observed):
    keys = list(observed)
    with netCDF4.Dataset(path, "w") as file:
        add_sites(file)
        file.createDimension("obs", len(keys))
        owners = [key[0] for key in keys]
        add(file, "whose", ("obs",), owners, "i4", instance_dimension="station")
        add_observations(file, keys, observed)


def write_rows(path, observed):
    keys = sorted(observed)
    rows = [[key for key in keys if key[0] == site] for site in range(3)]
    length = max(map(len, rows))
    at = [site * length + n for site, row in enumerate(rows) for n in range(len(row))]
    with netCDF4.Dataset(path, "w") as file:
        add_sites(file)
        file.createDimension("obs", length)
        dimensions = ("station", "obs")
        add_observations(file, keys, observed, dimensions, (3, length), at)


def expected_table(observed, times):
    table = np.full((len(times), 3), np.nan)
    for (site, time, _), number in observed.items():
        table[times.index(time), site] = number * 0.5 + 10
    return table


@settings(max_examples=20)
@given(OBSERVED)
def test_all_ways_of_listing_observations_are_one_table(tmp_path_factory, observed):
    single = {(site, time, 0): n for (site, time, _), n in observed.items()}
    folder = tmp_path_factory.mktemp("lists")
    times = sorted({key[1] for key in single})
    for write in (write_contiguous, write_indexed, write_rows):
        path = folder / f"{write.__name__}.nc"
        write(path, single)
        data = rhodolite.read(path)
        assert data["tas"].dimensions == ("time", "station")
        np.testing.assert_array_equal(
            data["tas"].values(), expected_table(single, times)
        )
        np.testing.assert_array_equal(data["time"].values(), times)
        bounds = data["time_bnds"].values()
        np.testing.assert_array_equal(bounds, np.add.outer(times, [-0.5, 0.5]))
        data.write(folder / f"again_{path.name}")
        again = rhodolite.read(folder / f"again_{path.name}")["tas"].values()
        np.testing.assert_array_equal(again, data["tas"].values())


@settings(max_examples=10)
@given(OBSERVED)
def test_profiles_of_sites_have_times_and_levels(tmp_path_factory, observed):
    path = tmp_path_factory.mktemp("lists") / "a.nc"
    keys = sorted(observed)
    profiles = sorted({key[:2] for key in keys})
    with netCDF4.Dataset(path, "w") as file:
        add_sites(file)
        file.createDimension("profile", len(profiles))
        file.createDimension("obs", len(keys))
        owners = [site for site, _ in profiles]
        add(file, "whose", ("profile",), owners, "i4", instance_dimension="station")
        counts = [sum(key[:2] == profile for key in keys) for profile in profiles]
        add(file, "n", ("profile",), counts, "i4", sample_dimension="obs")
        days = [day for _, day in profiles]
        add(file, "time", ("profile",), days, units="days since 2001-01-01")
        heights = [HEIGHTS[key[2]] for key in keys]
        add(file, "z", ("obs",), heights, units="m", positive="up", axis="Z")
        values = [observed[key] for key in keys]
        add(file, "tas", ("obs",), values, "i4", units="K", flag="kept")
    tas = rhodolite.read(path)["tas"]
    assert tas.dimensions == ("time", "z", "station")
    table = tas.floats().read(tuple(slice(0, n) for n in tas.shape))
    assert np.count_nonzero(~np.isnan(table)) == len(keys)
    times = sorted({key[1] for key in keys})
    levels = sorted({key[2] for key in keys})
    for site, time, level in keys:
        place = times.index(time), levels.index(level), site
        assert table[place] == observed[site, time, level]


def test_lists_that_contradict_themselves_are_refused_or_told(tmp_path):
    observed = {(0, 0, 0): 1, (0, 1, 0): 2, (2, 1, 0): 3}
    write_contiguous(tmp_path / "a.nc", observed)
    with netCDF4.Dataset(tmp_path / "a.nc", "a") as file:
        file["n"][:] = [2, 1, 1]
    with pytest.raises(DataError, match="counts 4 observations, and there are 3"):
        rhodolite.read(tmp_path / "a.nc")
    write_contiguous(tmp_path / "none.nc", observed)
    with netCDF4.Dataset(tmp_path / "none.nc", "a") as file:
        file["n"][:] = [0, 0, 0]
    with pytest.raises(DataError, match="no observation belongs to a site"):
        rhodolite.read(tmp_path / "none.nc")
    write_contiguous(tmp_path / "b.nc", observed)
    with netCDF4.Dataset(tmp_path / "b.nc", "a") as file:
        file["time"][:] = [1, 1, 1]
    answer = run_here(*["convert", "b.nc", "-o", "b.csv"], folder=tmp_path)
    assert answer.code == 3 and "observations 1 and 2 of obs" in answer.err
    write_indexed(tmp_path / "c.nc", observed)
    with netCDF4.Dataset(tmp_path / "c.nc", "a") as file:
        file["whose"][:] = [0, 7, 2]
    answer = run_here(*["convert", "c.nc", "-o", "c.csv"], folder=tmp_path)
    assert answer.code == 0 and "1 of 3 observations are left out" in answer.err
    lines = (tmp_path / "c.csv").read_text().splitlines()
    known = [line.split(",")[1:] for line in lines[1:] if not line.endswith(",")]
    assert known == [["10.0", "5.0", "10.5"], ["30.0", "355.0", "11.5"]]


def test_a_track_is_read_as_a_list(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.featureType = "trajectory"
        file.createDimension("ship", 1)
        file.createDimension("obs", 3)
        add(file, "n", ("ship",), [3], "i4", sample_dimension="obs")
        add(file, "time", ("obs",), [0, 1, 2], units="days since 2001-01-01")
        add(file, "lat", ("obs",), [1, 2, 3], units="degrees_north")
        add(file, "lon", ("obs",), [1, 2, 3], units="degrees_east")
        add(file, "sst", ("obs",), [280, 281, 282], units="K")
    with pytest.warns(UserWarning, match=r"\(trajectory\) are not of fixed sites"):
        data = rhodolite.read(tmp_path / "a.nc")
    assert data["sst"].dimensions == ("obs",)


@pytest.mark.parametrize("suffix", [".nc", ".zarr"])
def test_dates_beside_an_axis_of_time_are_results(tmp_path, suffix):
    """A dataset of sites whose field is a date at each site and time."""
    with netCDF4.Dataset(tmp_path / "dates.nc", "w") as file:
        add_sites(file)
        file.createDimension("time", 2)
        add(file, "time", ("time",), [180, 545], units="days since 2001-01-01")
        dates = [[300, 665], [310, 670], [320, 680]]
        add(file, "end", ("station", "time"), dates, units="days since 2001-01-01")
        add(file, "length", ("station", "time"), [[1, 2], [3, 4], [5, 6]], units="1")
    data = rhodolite.read(tmp_path / "dates.nc")
    data.write(tmp_path / f"again{suffix}")
    for part in (data, rhodolite.read(tmp_path / f"again{suffix}")):
        assert part["time"].values().tolist() == [180, 545]
        assert part["end"].values().tolist() == dates
        assert part["length"].dimensions == ("station", "time")
