"""Constants have no trend, no spread and no index, and one mean is the same mean everywhere."""

from __future__ import annotations

import warnings

import netCDF4
import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import EXAMPLES, make_dataset
from rhodolite import (
    Aggregate,
    Anomaly,
    Calc,
    Correlate,
    Index,
    Regrid,
    Subset,
    Summarise,
    Trend,
)
from rhodolite.api.dataset import Dataset
from rhodolite.arrays import Engine, InMemory
from rhodolite.errors import RhodoliteWarning
from rhodolite.kernels.moments import moments, shares
from rhodolite.kernels.rank_trends import variance_growth
from rhodolite.model.variable import Variable

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")


def constants(path, kind, packing, seed, steps=96):
    """A file of cells that never change, of a type and packing, in small chunks, some values
    missing."""
    random = np.random.default_rng(seed)
    with netCDF4.Dataset(path, "w") as file:
        for name, n in (("time", steps), ("lat", 4), ("lon", 9)):
            file.createDimension(name, n)
            file.createVariable(name, "f8", (name,))[:] = np.arange(n) * (
                30.5 if name == "time" else 10
            )
        file["time"].units, file["lat"].units, file["lon"].units = (
            "days since 2000-01-01",
            "degrees_north",
            "degrees_east",
        )
        made = file.createVariable(
            "tas", kind, ("time", "lat", "lon"), chunksizes=(7, 3, 4), fill_value=-32000
        )
        made.units = "K"
        made.set_auto_maskandscale(False)
        if packing:
            made.scale_factor, made.add_offset = (
                np.float64(packing[0]),
                np.float64(packing[1]),
            )
        cells = (
            random.integers(-30000, 30000, (4, 9))
            if kind == "i2"
            else random.normal(280, 30, (4, 9))
        )
        values = np.broadcast_to(cells, (steps, 4, 9)).copy()
        values[random.random(values.shape) < 0.05 * (seed % 2)] = -32000
        made[:] = values
    return path


@pytest.mark.slow
@settings(max_examples=EXAMPLES or 25)
@given(
    st.sampled_from(
        [("i2", (0.0013, 289.7)), ("i2", (0.01, 0)), ("f4", None), ("f8", None)]
    ),
    st.integers(0, 999),
    st.sampled_from([1 << 12, 1 << 20]),
)
def test_what_never_changes_has_no_trend_and_no_spread(
    tmp_path_factory, stored, seed, memory
):
    """For every type, packing, block size and pattern of gaps: p = 1, slope 0, spread 0, nothing
    standardised."""
    path = constants(tmp_path_factory.mktemp("c") / "c.nc", *stored, seed)
    engine = Engine(memory=memory, workers=2)
    data = rhodolite.read(path)

    def values(dataset, name):
        return dataset[name].values(engine)

    for parameters in ({}, {"test": "mann-kendall"}, {"serial_correlation": "ar1"}):
        made = Trend(**parameters)(data)
        assert np.all(values(made, "tas_trend") == 0)
        assert np.all(values(made, "tas_trend_pvalue") == 1)
    annual = Trend()(Aggregate(to="year")(data))
    assert np.nanmin(values(annual, "tas_trend_pvalue")) == 1
    area = Trend()(Summarise(over="lon")(Subset(lon="0..80")(constant_in_space(data))))
    assert np.all(values(area, "tas_trend_pvalue") == 1)
    assert np.isnan(values(Anomaly(kind="standardised")(data), "tas")).all()
    assert np.all(
        np.isin(values(Anomaly()(data), "tas"), [0, np.nan])
        | np.isnan(values(Anomaly()(data), "tas"))
    )
    for kind in ("std", "variance", "range"):
        for made in (
            Aggregate(to="year", statistic=kind)(data),
            Summarise(over="time", statistic=kind)(data),
        ):
            assert np.nanmax(values(made, "tas")) == 0
    assert np.isnan(values(Index(extremes="10%")(data), "tas_index")).all()
    series = data.with_variables(
        [
            data.variables["time"],
            Variable(
                "nao",
                ("time",),
                InMemory(np.random.default_rng(0).random(96)),
                {"units": "1"},
            ),
        ]
    )
    assert np.isnan(values(Correlate(with_=series)(data), "tas_correlation")).all()


def constant_in_space(data):
    """Every cell takes the value of the first."""
    tas = data.variables["tas"]
    first = tas.floats().read((slice(0, 1), slice(0, 1), slice(0, 1)))
    filled = np.full(
        tas.shape, np.nan_to_num(first[0, 0, 0], nan=280.1), tas.data.dtype
    )
    return data.with_variables(
        v.replace(data=InMemory(filled)) if v is tas else v
        for v in data.variables.values()
    )


@given(st.integers(0, 999), st.booleans())
def test_moments_merge_to_those_of_all(seed, weighted):
    """Against NumPy in longer floats, to 12 digits, however the values are split; gaps and weights
    included."""
    random = np.random.default_rng(seed)
    values = random.normal(1e4, 1e-2, (30, 5))
    values[random.random(values.shape) < 0.2] = np.nan
    weights = random.random(30) + 0.5 if weighted else None
    edges = np.sort(random.integers(0, 31, 3))
    total = [np.zeros(5) for _ in range(4)]
    for part in np.split(np.arange(30), edges):
        count, weight, mean, squares = moments(
            values[part], None if weights is None else weights[part]
        )
        share, between = shares(total[1], weight)
        shift = mean - total[2]
        total = [
            total[0] + count,
            total[1] + weight,
            total[2] + share * shift,
            total[3] + squares + shift**2 * between,
        ]
    along = np.where(
        np.isnan(values), 0, np.ones((30, 1)) if weights is None else weights[:, None]
    )
    filled = np.nan_to_num(values).astype(np.longdouble)
    mean = (along * filled).sum(axis=0) / along.sum(axis=0)
    np.testing.assert_allclose(total[2], mean.astype(float), rtol=1e-14)
    np.testing.assert_allclose(
        total[3], (along * (filled - mean) ** 2).sum(axis=0).astype(float), rtol=1e-9
    )


@pytest.mark.parametrize(
    ("over", "about"),
    [
        ("time", {}),
        ("time", {"units": "mm", "cell_methods": "time: sum"}),
        ("level", {}),
        ("area", {}),
        ("lat", {}),
        ("lon", {}),
    ],
)
def test_a_mean_is_the_same_in_every_place(over, about, rng):
    """`calc`, `summarise` and the mean that a map shows: months by their days, levels by thickness,
    cells by area."""
    data = make_dataset(
        rng.random((12, 4, 5)),
        times=np.arange(12) * 30.6 + 10,
        lats=[-60, 0, 20, 70],
        lons=[0, 10, 25, 60, 70],
        attributes=about,
    )
    if over == "level":
        levels = Variable(
            "plev",
            ("plev",),
            InMemory(np.array([1000.0, 850, 500, 100])),
            {"units": "hPa"},
        )
        tas = Variable(
            "tas", ("plev", "lat"), InMemory(rng.random((4, 4))), {"units": "K"}
        )
        data = Dataset({"plev": levels, "lat": data.variables["lat"], "tas": tas})
    summarised = Summarise(over=over)(data)["tas"].values()
    calculated = Calc(formula=f"mean(tas, {over})", name="m")(data)["m"].values()
    np.testing.assert_allclose(calculated, summarised, rtol=1e-6)
    if over == "time":
        weights = None if about else data.time.lengths
        np.testing.assert_allclose(
            summarised,
            np.average(data["tas"].values(), axis=0, weights=weights),
            rtol=1e-12,
        )


@pytest.mark.parametrize("method", ["conservative", "nearest", "bilinear"])
def test_a_region_goes_through_regridding(method, rng):
    """The mean over a region that was cut out is kept by conservative regridding, to 12 digits."""
    lats, lons = np.arange(41, 80, 2.0), np.arange(1, 60, 2.0)
    data = make_dataset(rng.random((1, 20, 30)), times=[0], lats=lats, lons=lons)
    part = data.subset(region="Norway,Sweden")
    made = Regrid(to="5", method=method)(part)
    before, after = (Summarise()(one)["tas"].values()[0] for one in (part, made))
    area = [one["covered_area"].values().sum() for one in (part, made)]
    assert area[1] == pytest.approx(
        area[0], rel=1e-12 if method == "conservative" else 0.3
    )
    assert after == pytest.approx(
        before, rel=1e-12 if method == "conservative" else 0.3
    )


def test_agreement_is_that_with_the_mean():
    """Two members below zero and one far above: the mean is above, and one in three agrees; zeros
    agree with none."""
    values = np.array([[-1.0, 2, 0], [-1, 2, 0], [5, -1, 3]])
    member = Variable(
        "member", ("member",), InMemory(np.arange(3)), {"standard_name": "realization"}
    )
    tas = Variable(
        "tas",
        ("member", "x"),
        InMemory(values),
        {"units": "K", "base_period": "1991..2020"},
    )
    made = Summarise(over="ensemble")(Dataset({"member": member, "tas": tas}))
    np.testing.assert_allclose(
        made["tas_agreement"].values(), [100 / 3, 200 / 3, 100 / 3], rtol=1e-6
    )


@pytest.mark.slow
@given(st.integers(0, 999))
def test_missing_steps_are_no_values_for_serial_correlation(seed):
    """Gaps at the ends change nothing: growth of the variance is that of the series without them
    (14 digits)."""
    random = np.random.default_rng(seed)
    noise = random.normal(size=40)
    series = scipy.signal.lfilter([1], [1, -0.7], noise)[:, None]
    years = np.arange(40.0)
    padded = np.concatenate(
        [np.full((25, 1), np.nan), series, np.full((15, 1), np.nan)]
    )
    slope = np.array([0.01])
    np.testing.assert_allclose(
        variance_growth(np.arange(-25.0, 55.0), padded, slope),
        variance_growth(years, series, slope),
        rtol=1e-12,
    )
    data = [
        make_dataset(v[:, :, None], times=t * 365.25 + 100)
        for v, t in ((series, years), (padded, np.arange(-25.0, 55)))
    ]
    for persistence in ("hamed-rao", "pre-whitening"):
        trends = [
            Trend(test="mann-kendall", serial_correlation=persistence)(one)[
                "tas_trend_pvalue"
            ].values()
            for one in data
        ]
        np.testing.assert_allclose(trends[0], trends[1], rtol=1e-9)


def test_warnings_are_the_same_for_a_constant():
    with warnings.catch_warnings():
        warnings.simplefilter("error", RhodoliteWarning)
        Summarise(over="time", statistic="std")(
            make_dataset(np.ones((24, 1, 1)), times=np.arange(24) * 30.5)
        )
