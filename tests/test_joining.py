"""Several files as one dataset: in time, over variables, and why some do not fit together."""

from __future__ import annotations

import numpy as np
import pytest

import rhodolite
from conftest import write_plain
from rhodolite.errors import DataError


@pytest.fixture
def years(tmp_path, rng):
    """Three years of monthly data, a file each, named against the order of time, with units of their own."""
    values = rng.normal(size=(36, 3, 4)).astype("f4")
    for number, (name, year) in enumerate((("c", 2001), ("a", 2002), ("b", 2003))):
        days = 15 + 30 * np.arange(12)
        write_plain(tmp_path / f"{name}.nc", values[12 * number : 12 * number + 12], times=days,
                    units=f"days since {year}-01-01", calendar="360_day")  # fmt: skip
    return tmp_path, values


def test_files_come_in_the_order_of_time(years):
    folder, values = years
    data = rhodolite.read(str(folder / "*.nc"))
    np.testing.assert_array_equal(data["tas"].values(), values)
    assert [(d.year, d.month, d.day) for d in data.time.dates[[0, 12, 35]]] == [
        (2001, 1, 16),
        (2002, 1, 16),
        (2003, 12, 16),
    ]
    assert data.time.step.missing == 0
    assert [f.path.name for f in data.files] == ["c.nc", "a.nc", "b.nc"]


def test_a_year_left_out_is_told(years):
    folder, _ = years
    assert rhodolite.read([folder / "b.nc", folder / "c.nc"]).time.step.missing == 12


def test_files_of_other_variables_are_put_beside(years):
    folder, values = years
    write_plain(folder / "pr.nc", values, times=15 + 30 * np.arange(36), units="days since 2001-01-01", name="pr",
                calendar="360_day", attributes={"units": "mm day-1"})  # fmt: skip
    data = rhodolite.read([*folder.glob("?.nc"), folder / "pr.nc"])
    assert [v.name for v in data.data_variables] == ["tas", "pr"]
    np.testing.assert_array_equal(data["pr"].values(), data["tas"].values())


def test_only_what_holds_for_all_files_is_kept_of_the_description(demo):
    data = rhodolite.read(str(demo / "nordic_daily_201[0-2].nc"))
    assert "signals" in data.attributes
    assert data.sizes["time"] == 365 + 365 + 366


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({}, r"a\.nc and d\.nc both hold times from 2002-01-16"),
        ({"lats": [0, 1, 2.5]}, r"lat differs in 1 places, first at number 3: 2 and 2\.5"),
        ({"shape": (12, 2, 4)}, r"lat has 3 values in one and 2 in the other"),
        ({"calendar": "noleap"}, r"calendars are 360_day and noleap"),
        ({"attributes": {"units": "degC"}}, r"tas is in K in one and in degC in the other"),
        ({"format": "NETCDF3_CLASSIC", "lons": [0, 1, 2, 3 + 1e-9]}, r"both hold times"),
    ],
    ids=["overlap", "grid", "size", "calendar", "units", "jitter is tolerated"],
)
def test_files_that_do_not_fit_are_named_with_what_differs(years, change, message):
    folder, values = years
    change = dict(change)
    shape = change.pop("shape", (12, 3, 4))
    units = "days since 2002-01-01" if "both hold" in message else "days since 2010-01-01"
    given = {"times": 15 + 30 * np.arange(12), "units": units, "calendar": "360_day", **change}
    write_plain(folder / "d.nc", np.resize(values, shape), **given)
    with pytest.raises(DataError, match=message):
        rhodolite.read(sorted(folder.glob("*.nc")))


def test_a_variable_that_only_some_files_hold_is_named(years):
    import netCDF4

    folder, _ = years
    with netCDF4.Dataset(folder / "b.nc", "a") as file:
        file.createVariable("pr", "f4", ("time", "lat", "lon"))
    with pytest.raises(DataError, match=r"c\.nc does not hold the variable 'pr' that b\.nc holds|a\.nc does not hold"):
        rhodolite.read(str(folder / "*.nc"))
