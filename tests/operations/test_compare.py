"""Maps, normals and single times set against each other, against NumPy by hand."""

from __future__ import annotations

import numpy as np
import pytest

import rhodolite
from conftest import make_dataset, run_command
from rhodolite import Climatology, Compare, DataError, Subset, Summarise
from rhodolite.errors import RhodoliteWarning

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")


@pytest.fixture
def monthly(rng):
    times = np.arange(240) * 30.4375 + 14
    return make_dataset(
        rng.random((240, 4, 5)) + 1,
        times=times,
        lats=[0, 20, 40, 60],
        lons=[0, 10, 20, 30, 40],
        name="pr",
        attributes={"units": "mm/day"},
    )


def values(dataset, name):
    return dataset[name].values()


@pytest.mark.parametrize(
    ("kind", "work"),
    [
        ("difference", lambda a, b: a - b),
        ("ratio", lambda a, b: a / b),
        ("percent", lambda a, b: 100 * (a / b - 1)),
    ],
)
def test_maps_normals_and_single_times(monthly, kind, work):
    """Two maps, two normals of other years, one month of two years, and a map held against every
    time."""
    periods = [Subset(time="2000..2009")(monthly), Subset(time="2010..2018")(monthly)]
    pairs = [
        [Summarise(over="time")(part) for part in periods],
        [Climatology()(part) for part in periods],
        [Climatology(cycle="season")(part) for part in periods],
        [Subset(time="2003-07")(monthly), Subset(time="2012-07")(monthly)],
        [periods[0], Summarise(over="time")(periods[1])],
        [periods[0], Subset(time="2012-07")(monthly)],
    ]
    for first, second in pairs:
        made = Compare(with_=second, kind=kind)(first)
        expected = work(values(first, "pr"), values(second, "pr"))
        np.testing.assert_allclose(values(made, f"pr_{kind}"), expected, rtol=1e-12)
        assert (
            made[f"pr_{kind}"].units == {"difference": "mm/day", "ratio": "1", "percent": "%"}[kind]
        )
        assert made.remarks


def test_what_cannot_be_compared_says_why(monthly):
    normal, mean = Climatology()(monthly), Summarise(over="time")(monthly)
    with pytest.raises(
        DataError,
        match=r"January to December, which do not correspond; .* anomaly --climatology FILE",
    ):
        Compare(with_=normal)(monthly)
    with pytest.raises(DataError, match="compare the other way round"):
        Compare(with_=monthly)(mean)
    with pytest.warns(RhodoliteWarning, match=r"2003-07 of .* is compared with 2004-08"):
        Compare(with_=Subset(time="2004-08")(monthly))(Subset(time="2003-07")(monthly))


@pytest.mark.slow
def test_one_month_of_members_of_other_calendars(demo, tmp_path):
    answer = run_command(
        "subset",
        "almandine_future.nc",
        "grossular_future.nc",
        "--members",
        "--time",
        "2040-07",
        "--variable",
        "tas",
        "then",
        "regrid",
        "--to",
        "10",
        "then",
        "summarise",
        "--over",
        "ensemble",
        "-o",
        tmp_path / "july.nc",
        folder=demo,
    )
    assert answer.code == 0, answer.err
    assert rhodolite.read(tmp_path / "july.nc")["tas"].shape[0] == 1


def test_longitudes_are_the_same_modulo_360():
    values = np.arange(12.0).reshape(1, 3, 4)
    lats = [0.0, 1.0, 2.0]
    east = make_dataset(values, lats=lats, lons=[0.0, 90.0, 180.0, 270.0])
    west = make_dataset(values + 1, lats=lats, lons=[0.0, 90.0, 180.0, -90.0])
    made = Compare(with_=west)(east)["tas_difference"].values()
    np.testing.assert_array_equal(made, -np.ones((1, 3, 4)))
    shifted = make_dataset(values, lats=lats, lons=[1.0, 91.0, 181.0, 271.0])
    with pytest.raises(DataError, match="lon"):
        Compare(with_=shifted)(east)
