"""Maps, normals and single times set against each other, against NumPy by hand."""

from __future__ import annotations

import numpy as np
import pytest

import rhodolite
from conftest import make_dataset, run_here
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
            made[f"pr_{kind}"].units
            == {"difference": "mm/day", "ratio": "1", "percent": "%"}[kind]
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
    with pytest.warns(
        RhodoliteWarning, match=r"2003-07 of .* is compared with 2004-08"
    ):
        Compare(with_=Subset(time="2004-08")(monthly))(Subset(time="2003-07")(monthly))


@pytest.mark.slow
def test_one_month_of_members_of_other_calendars(demo, tmp_path):
    answer = run_here(
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


NAMES = ["beryl", "topaz", "zircon"]


def write_members(folder, period, values, first, names=NAMES, kind="tas"):
    """Write a file of two years of months for each member; return it as each is read."""
    units = {"tas": "K", "pr": "kg m-2 s-1"}[kind]
    for name, value in zip(names, values, strict=True):
        months = make_dataset(
            value + np.arange(24).reshape(-1, 1, 1) + np.zeros((24, 2, 3)),
            times=first + 15 + 30.4 * np.arange(24),
            name=kind,
            attributes={"units": units, "standard_name": ""},
        )
        rhodolite.write(months, folder / f"{name}_{period}.nc")


@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
def test_members_go_with_those_of_their_name(tmp_path):
    """In whatever order they stand; each as if it were alone."""
    write_members(tmp_path, "past", [1.0, 20, 300], 0)
    write_members(tmp_path, "future", [2.0, 24, 308], 7305)
    past, future = (
        [str(tmp_path / f"{name}_{period}.nc") for name in names]
        for period, names in (("past", NAMES[::-1]), ("future", NAMES))
    )
    few = Climatology(base="2000..2001", min_years=1)
    rhodolite.write(
        rhodolite.read(past, members=True).apply(few), tmp_path / "normals.nc"
    )
    words = (
        "--members",
        "--climatology",
        "normals.nc",
        "--min-years",
        "1",
        "-o",
        "a.nc",
    )
    answer = run_here("anomaly", *future, *words, folder=tmp_path)
    assert answer.code == 0, answer.err
    anomalies = rhodolite.read(tmp_path / "a.nc")
    labels = [str(name) for name in anomalies["member_name"].values()]
    for label, values in zip(labels, anomalies["tas"].values(), strict=True):
        alone = ("--climatology", f"{label}_past.nc", "--min-years", "1", "-o", "b.nc")
        run_here(
            "anomaly", f"{label}_future.nc", *alone, "--overwrite", folder=tmp_path
        )
        np.testing.assert_allclose(
            values, rhodolite.read(tmp_path / "b.nc")["tas"].values()
        )
    for other, message in (
        ("topaz_future.nc", "tas is of 3 members in normals.nc"),
        ("topaz_future.nc zircon_future.nc --members", "so both need the same"),
    ):
        answer = run_here(
            "anomaly", *other.split(), *words[-6:], "--overwrite", folder=tmp_path
        )
        assert (answer.code, message in answer.err) == (3, True), answer.err


@pytest.mark.parametrize("kind", ["tas", "pr"])
@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
def test_the_table_has_a_column_for_each_member_and_signs_agree(tmp_path, kind):
    write_members(tmp_path, "past", [1.0, 20, 300], 0, kind=kind)
    write_members(tmp_path, "one", [10.0, 10.0], 0, names=["a", "b"], kind=kind)
    files = [f"{name}_past.nc" for name in NAMES]
    words = ("--members", "--with", "a_one.nc", "-o", "d.nc")
    out = run_here("compare", *files, *words, folder=tmp_path).out
    lines = out.splitlines()
    assert lines[0] == f"{kind}: 3 members minus a_one.nc, 24 times"
    assert lines[1].split() == NAMES
    bias = next(line for line in lines if line.strip().startswith("bias"))
    assert [float(word) for word in bias.split()[-3:]] == [-9, 10, 290]
    words = ("summarise", "d.nc", "--over", "ensemble", "-o", "s.nc")
    assert run_here(*words, folder=tmp_path).code == 0
    ensemble = rhodolite.read(tmp_path / "s.nc")
    agreement = ensemble[f"{kind}_difference_agreement"].values()
    np.testing.assert_allclose(agreement, 100 * 2 / 3, rtol=1e-6)
    assert not [
        v.name for v in ensemble.fields if "error" in v.name and "agreement" in v.name
    ]


@pytest.mark.parametrize("units", ["mm/day", "mm", "mm/month"])
def test_the_bias_is_the_difference_of_two_means(rng, units):
    """At each cell over time, and in the table, by the rule of `summarise` for each unit."""
    times = np.arange("2001-01", "2003-01", dtype="M8[M]").astype("M8[D]")
    coordinates = {"time": times, "lat": [0.0, 50.0, 80.0], "lon": [0.0, 10.0]}
    values = [rng.gamma(1, 3, (24, 3, 2)) * np.linspace(1, 9, 24)[:, None, None]]
    values.append(values[0] * rng.random((24, 1, 1)))
    about = {"pr": {"cell_methods": "time: sum"}} if units == "mm" else {}
    ours, theirs = (
        rhodolite.from_arrays(
            {"pr": v}, coordinates, units={"pr": units}, attributes=about
        )
        for v in values
    )
    compared = ours.compare(with_=theirs)
    first, second = (d.summarise(over="time")["pr"].values() for d in (ours, theirs))
    np.testing.assert_allclose(compared["pr_bias"].values(), first - second, rtol=1e-12)
    table = compared.plain.remarks[0].text(rhodolite.Engine())
    told = [float(line.split()[-2]) for line in table.splitlines()[1:4]]
    whole = [
        float(d.summarise().summarise(over="time")["pr"].values())
        for d in (ours, theirs)
    ]
    np.testing.assert_allclose(told, [*whole, whole[0] - whole[1]], rtol=1e-4)
    squares = (values[0] - values[1]) ** 2
    weights = None if units != "mm/day" else (np.diff(np.append(times, times[-1] + 31)))
    expected = np.average(
        squares, axis=0, weights=None if weights is None else weights.astype(int)
    )
    error = compared["pr_root_mean_square_error"].values()
    np.testing.assert_allclose(error, np.sqrt(expected), rtol=1e-12)


def test_the_table_is_that_of_weighted_pairs(rng):
    """Each time counts by its length, however much of its area is there, against NumPy by hand."""
    times = np.arange("2001-01", "2002-01", dtype="M8[M]").astype("M8[D]")
    lats = np.array([0.0, 50.0, 80.0])
    values = [rng.gamma(2, 3, (12, 3, 2)) for _ in range(2)]
    values[0][[1, 5], 2] = values[1][7, :2, 0] = np.nan
    ours, theirs = (
        rhodolite.from_arrays(
            {"pr": v},
            {"time": times, "lat": lats, "lon": [0.0, 9.0]},
            units={"pr": "mm/day"},
        )
        for v in values
    )
    compared = ours.compare(with_=theirs)
    lines = compared.plain.remarks[0].text(rhodolite.Engine()).splitlines()[1:]
    told = [float(line.removesuffix(" mm/day").split()[-1]) for line in lines]
    edges = np.radians([-25, 25, 65, 90])
    there = ~np.isnan(values[0]) & ~np.isnan(values[1])
    areas = np.diff(np.sin(edges))[:, None] * there
    days = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31]
    weights = areas / areas.sum(axis=(1, 2), keepdims=True)
    weights = (weights * np.array(days)[:, None, None])[there]
    x, y = (v[there] for v in values)

    def mean(numbers):
        return np.average(numbers, weights=weights)

    spread = [mean((v - mean(v)) ** 2) for v in (x, y)]
    expected = [
        mean(x),
        mean(y),
        mean(x - y),
        mean(abs(x - y)),
        np.sqrt(mean((x - y) ** 2)),
        np.sqrt(mean((x - y - mean(x - y)) ** 2)),
        mean((x - mean(x)) * (y - mean(y))) / np.sqrt(np.prod(spread)),
        spread[0] / spread[1],
    ]
    np.testing.assert_allclose(told, expected, rtol=1e-4)


def test_scores_of_members_are_those_of_comparisons(rng):
    """The error is that of their mean, and the score of a single one its mean absolute error."""
    times = np.arange("2001-01", "2002-01", dtype="M8[M]").astype("M8[D]")
    places = {"time": times, "lat": [0.0, 50.0], "lon": [0.0, 9.0]}
    values = rng.gamma(2, 3, (3, 12, 2, 2))
    values[1, 4, 0, 0] = np.nan
    members = rhodolite.from_arrays(
        {"pr": values}, {"member": [1, 2, 3], **places}, units={"pr": "mm/day"}
    )
    truth = rhodolite.from_arrays(
        {"pr": rng.gamma(2, 3, (12, 2, 2))}, places, units={"pr": "mm/day"}
    )
    scored = members.compare(with_=truth, kind="ensemble")
    mean = rhodolite.from_arrays(
        {"pr": values.mean(axis=0)}, places, units={"pr": "mm/day"}
    )
    error = mean.compare(with_=truth)["pr_root_mean_square_error"].values()
    np.testing.assert_allclose(scored["pr_error"].values(), error, rtol=1e-12)
    single = rhodolite.from_arrays(
        {"pr": values[:1]}, {"member": [1], **places}, units={"pr": "mm/day"}
    )
    score = single.compare(with_=truth, kind="ensemble")["pr_crps"].values()
    alone = rhodolite.from_arrays({"pr": values[0]}, places, units={"pr": "mm/day"})
    absolute = alone.compare(with_=truth)["pr_mean_absolute_error"].values()
    np.testing.assert_allclose(score, absolute, rtol=1e-12)
