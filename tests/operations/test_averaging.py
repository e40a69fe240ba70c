"""Means over area and time, and what inspect counts, against NumPy on the whole array."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset
from rhodolite import Anomaly, Engine, Subset
from rhodolite.arrays import InMemory
from rhodolite.inspection.summary import describe
from rhodolite.model.axes import Role
from rhodolite.operations.axis_reduction.area_mean import mean_over, overview


def field(seed, gaps=0.2, shape=(5, 6, 8)):
    random = np.random.default_rng(seed)
    values = random.normal(280, 20, shape)
    values[random.random(shape) < gaps] = np.nan
    lats = np.sort(random.uniform(-88, 88, shape[1]))[:: random.choice([-1, 1])]
    return (
        make_dataset(values, lats=lats, lons=np.arange(shape[2]) * 360 / shape[2]),
        values,
        lats,
    )


@given(st.integers(0, 500), st.sampled_from([0.0, 0.3, 1.0]))
def test_area_means_weigh_by_true_area_and_leave_gaps_out(seed, gaps):
    """Against numpy.average with areas from the sines of hand-made edges, to 12 digits."""
    data, values, lats = field(seed, gaps)
    middle = (lats[1:] + lats[:-1]) / 2
    edges = np.clip(
        [lats[0] - (middle[0] - lats[0]), *middle, lats[-1] + (lats[-1] - middle[-1])],
        -90,
        90,
    )
    area = np.broadcast_to(
        np.abs(np.diff(np.sin(np.radians(edges))))[:, None], values.shape[1:]
    )
    found = mean_over(data, data["tas"], (Role.LATITUDE, Role.LONGITUDE)).values(
        Engine(memory=1 << 20)
    )
    for step, mean in zip(values, found, strict=True):
        there = ~np.isnan(step)
        expected = (
            np.average(step[there], weights=area[there]) if there.any() else np.nan
        )
        np.testing.assert_allclose(mean, expected, rtol=1e-12)
    counted = overview(data, data["tas"])
    count, missing, low, high, overall = Engine().compute(counted)
    there = ~np.isnan(values)
    assert (count, missing) == (values.size, (~there).sum())
    if there.any():
        assert (low, high) == (np.nanmin(values), np.nanmax(values))
        weights = np.broadcast_to(area, values.shape)[there]
        assert overall == pytest.approx(
            np.average(values[there], weights=weights), rel=1e-12
        )


def test_a_mean_over_one_axis_keeps_the_others_in_order():
    data, values, _ = field(1, 0.0)
    np.testing.assert_allclose(
        mean_over(data, data["tas"], (Role.TIME,)).values(),
        values.mean(axis=0),
        rtol=1e-14,
    )
    zonal = mean_over(data, data["tas"], (Role.LONGITUDE,))
    assert zonal.dimensions == ("time", "lat")
    np.testing.assert_allclose(zonal.values(), values.mean(axis=2), rtol=1e-14)
    assert mean_over(data, data["tas"], (Role.LEVEL,)).shape == values.shape


@pytest.mark.slow
@given(st.integers(0, 50))
def test_choosing_a_region_before_or_after_departures_gives_the_same(seed):
    random = np.random.default_rng(seed)
    data = make_dataset(
        random.normal(size=(48, 6, 8)),
        times=15 + 30 * np.arange(48),
        calendar="360_day",
        lats=np.arange(6) * 10,
        lons=np.arange(8) * 45,
    )
    region = Subset(lat="10..30", lon="90W..90E")
    first, last = region(Anomaly()(data)), Anomaly()(region(data))
    np.testing.assert_array_equal(first["tas"].values(), last["tas"].values())
    np.testing.assert_array_equal(first["lon"].values(), last["lon"].values())
    assert [step["verb"] for step in first.record] == ["anomaly", "subset"]


@pytest.mark.slow
@given(st.integers(0, 50), st.floats(-100, 100), st.floats(0.1, 10))
def test_departures_ignore_an_offset_and_follow_a_factor(seed, offset, factor):
    random = np.random.default_rng(seed)
    values = random.normal(size=(36, 2, 3))
    times = {"times": 15 + 30 * np.arange(36), "calendar": "360_day"}
    plain = Anomaly()(make_dataset(values, **times))["tas"].values()
    moved = Anomaly()(make_dataset(values * factor + offset, **times))["tas"].values()
    np.testing.assert_allclose(
        moved, plain * factor, atol=1e-12 * (abs(offset) + factor) * 10
    )
    standard = [
        Anomaly(kind="standardised")(make_dataset(v, **times))["tas"].values()
        for v in (values, values * factor)
    ]
    np.testing.assert_allclose(standard[1], standard[0], rtol=1e-9)


def test_integers_with_missing_values_are_averaged_without_them():
    data, _, _ = field(2)
    counts = np.arange(240).reshape(5, 6, 8).astype("i2")
    variable = data["tas"].replace(
        data=InMemory(counts), missing=7, attributes={"units": "1"}
    )
    mean = mean_over(data, variable, (Role.TIME,)).values()
    expected = np.where(counts == 7, np.nan, counts.astype(float))
    np.testing.assert_allclose(mean, np.nanmean(expected, axis=0))
    assert variable.values().dtype == np.int16


def test_a_description_is_plain_and_says_where_when_and_how_high(demo):
    found = describe(
        rhodolite.read(demo / "pressure_monthly.nc"), Engine(), statistics=True
    )
    where, when, height = found["where"], found["when"], found["height"]
    assert (where["grid"], where["south"], where["east"], where["global_round"]) == (
        "regular",
        -87.5,
        177.5,
        True,
    )
    assert (when["step"], when["covers"], when["gaps"]) == (
        "every month",
        ["2017-01", "2018-12"],
        [],
    )
    assert (height["count"], height["units"], height["levels"][:2]) == (
        12,
        "hPa",
        [1000.0, 925.0],
    )
    assert [v["statistics"]["missing"] for v in found["variables"]] == [0, 0, 0]
    nothing = describe(rhodolite.Dataset({}), Engine())
    assert (
        nothing["where"],
        nothing["when"],
        nothing["height"],
        nothing["variables"],
    ) == (
        None,
        None,
        None,
        [],
    )


def test_means_on_a_fine_grid_are_those_of_the_sphere():
    """The mean of the squared sine of latitude is a third, and a half if all cells count alike."""
    lats, lons = np.arange(-89.75, 90, 0.5), np.arange(0.25, 360, 0.5)
    values = np.broadcast_to(
        np.sin(np.radians(lats))[:, None] ** 2, (lats.size, lons.size)
    )
    data = make_dataset(values[None].astype("f4"), lats=lats, lons=lons)
    assert data.summarise()["tas"].values()[0] == pytest.approx(1 / 3, abs=1e-5)
    assert mean_over(data, data["tas"], (Role.LATITUDE, Role.LONGITUDE)).values()[
        0
    ] == pytest.approx(1 / 3, abs=1e-5)
    assert describe(data, Engine(), statistics=True)["variables"][0]["statistics"][
        "mean"
    ] == pytest.approx(1 / 3, abs=1e-5)
