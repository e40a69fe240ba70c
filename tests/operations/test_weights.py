"""Weighted statistics in parts, arrays seen along other axes, and what rests on them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import Calc, DataError, Engine, Extract, Relevel, Subset, Summarise
from rhodolite.api.dataset import Dataset
from rhodolite.arrays import Aligned, Flattened, InMemory, WithoutAxis
from rhodolite.kernels.spherical_cells import corners_between, outlines_in_plane
from rhodolite.kernels.weighted_statistics import (
    finish,
    gather,
    merge,
    weighted_percentile,
)
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.reduce import (
    AxisReduction,
    CellGroup,
    reduce_axes,
)
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.regions.polygon_overlap import cut

KINDS = ["mean", "sum", "count", "min", "max", "range", "std", "variance"]


@given(st.integers(0, 1000), st.sampled_from(KINDS), st.integers(0, 12))
def test_parts_of_cells_merge_to_the_whole(seed, kind, split):
    """Whatever the split, to 11 digits; and against numpy where all have the same weight."""
    random = np.random.default_rng(seed)
    values = random.normal(1e4, 1, (3, 12))
    values[random.random(values.shape) < 0.3] = np.nan
    weights = random.uniform(0.1, 2, 12)
    whole = finish(gather(values, weights, kind), kind)
    first = gather(values[:, :split], weights[:split], kind)
    parts = {name: np.array(part) for name, part in first.items()}
    merge(parts, gather(values[:, split:], weights[split:], kind))
    np.testing.assert_allclose(finish(parts, kind), whole, rtol=1e-9)
    if kind == "std":
        for row, found in zip(
            values, finish(gather(values, np.full(12, 0.7), kind), kind), strict=True
        ):
            there = row[~np.isnan(row)]
            assert (
                found == pytest.approx(there.std(ddof=1), rel=1e-9)
                if there.size > 1
                else np.isnan(found)
            )
    if kind == "mean":
        for row, found in zip(values, whole, strict=True):
            there = ~np.isnan(row)
            expected = (
                np.average(row[there], weights=weights[there])
                if there.any()
                else np.nan
            )
            assert found == pytest.approx(expected, rel=1e-12, nan_ok=True)


@given(st.integers(0, 1000), st.floats(0, 1))
def test_weighted_percentiles_follow_the_weights(seed, share):
    """Equal weights against numpy to 12 digits; a cell without weight changes nothing; order and
    scale do not count."""
    random = np.random.default_rng(seed)
    values = random.normal(size=(2, 9))
    values[random.random(values.shape) < 0.2] = np.nan
    expected = np.nanpercentile(values, 100 * share, axis=1)
    np.testing.assert_allclose(
        weighted_percentile(values, np.full(9, 3.0), share),
        expected,
        rtol=1e-12,
        atol=1e-12,
    )
    weights = random.uniform(0.1, 5, 9)
    found = weighted_percentile(values, weights, share)
    order = random.permutation(9)
    np.testing.assert_allclose(
        weighted_percentile(values[:, order], 7 * weights[order], share),
        found,
        rtol=1e-10,
        atol=1e-12,
    )
    assert (
        (found >= np.nanmin(values, axis=1)) & (found <= np.nanmax(values, axis=1))
    ).all()


@st.composite
def blocks_of(draw, shape):
    ends = [
        sorted((draw(st.integers(0, n - 1)), draw(st.integers(0, n - 1))))
        for n in shape
    ]
    return tuple(slice(a, b + 1) for a, b in ends)


@given(st.data())
def test_arrays_along_other_axes_read_what_numpy_does(data):
    values = np.random.default_rng(5).normal(size=(3, 4, 1, 5))
    axes = data.draw(st.sampled_from([(0,), (1, 3), (0, 1), (3,), (0, 1, 3)]))
    flat = Flattened(InMemory(values), axes)
    expected = np.moveaxis(values, axes, range(len(axes))).reshape(
        -1, *(n for a, n in enumerate(values.shape) if a not in axes)
    )
    region = data.draw(blocks_of(expected.shape))
    np.testing.assert_array_equal(flat.read(region), expected[region])
    dropped = WithoutAxis(InMemory(values), 2)
    region = data.draw(blocks_of(dropped.shape))
    np.testing.assert_array_equal(dropped.read(region), values[:, :, 0][region])
    own = data.draw(st.permutations(["x", "y"]))
    small = values[0, :, 0, :] if own == ["x", "y"] else values[0, :, 0, :].T
    seen = Aligned(InMemory(small), tuple(own), ("t", "x", "y"), (3, 4, 5))
    region = data.draw(blocks_of((3, 4, 5)))
    np.testing.assert_array_equal(
        seen.read(region), values[:1, :, 0, :][(slice(None), *region[1:])]
    )


@given(st.data(), st.integers(0, 99))
def test_collapsed_axes_are_the_same_as_they_are_read_and_in_one_pass(data, seed):
    """For groups that share cells, in any block, against sums written out; 10 digits."""
    random = np.random.default_rng(seed)
    values = random.normal(size=(4, 5, 6))
    values[random.random(values.shape) < 0.2] = np.nan
    axes = data.draw(st.sampled_from([(0,), (1, 2), (0, 2), (2,)]))
    lengths = tuple(values.shape[axis] for axis in axes)
    weights = random.uniform(0, 1, (3, int(np.prod(lengths)))) * (
        random.random((3, int(np.prod(lengths)))) < 0.7
    )
    weights[:, 0] = 1.0
    measure = Measure(data.draw(st.sampled_from([*KINDS, "median", "p90"])))
    work = AxisReduction(
        axes,
        lengths,
        [CellGroup.of(row) for row in weights],
        measure,
        0.0,
        grouped=True,
    )
    engine = Engine(memory=1 << 20)
    first = reduce_axes(InMemory(values), work, pull=True)
    both = [
        engine.compute(first),
        engine.compute(reduce_axes(InMemory(values), work, pull=False)),
    ]
    np.testing.assert_allclose(both[0], both[1], rtol=1e-10)
    region = data.draw(blocks_of(first.shape))
    np.testing.assert_allclose(first.read(region), both[0][region], rtol=1e-12)
    if measure.kind == "mean":
        rest = np.moveaxis(values, axes, range(-len(axes), 0)).reshape(
            -1, int(np.prod(lengths))
        )
        there = ~np.isnan(rest)
        with np.errstate(invalid="ignore"):
            expected = np.nan_to_num(rest) @ weights.T / (there @ weights.T)
        kept = tuple(n for axis, n in enumerate(values.shape) if axis not in axes)
        np.testing.assert_allclose(
            np.moveaxis(both[0], axes[0], -1).reshape(*kept, 3),
            expected.reshape(*kept, 3),
            rtol=1e-10,
        )


@given(st.integers(0, 300))
def test_areas_in_common_with_rectangles_agree_with_the_geometry_library(seed):
    """Stars with a hole against shapely's intersections with every cell, to 11 digits of a cell."""
    import shapely

    random = np.random.default_rng(seed)
    angles = np.sort(random.uniform(0, 2 * np.pi, 11))
    reach = random.uniform(1.5, 4, 11)
    star = shapely.Polygon(
        np.stack([reach * np.cos(angles), reach * np.sin(angles)], axis=1)
    )
    hole = shapely.Point(random.uniform(-1, 1), random.uniform(-1, 1)).buffer(
        0.7, quad_segs=3
    )
    shapes = np.array(
        [
            shapely.make_valid(star).difference(hole),
            shapely.box(0, 0, 2, 1),
            shapely.Polygon(),
            # Those that hold all of the grid, or lie below a part of it.
            shapely.box(-9, -9, 9, 20),
            shapely.Polygon([(-9, -9), (9, -9), (9, -2), (-9, 3)]),
        ]
    )
    x, y = (
        np.sort(random.uniform(-5, 5, 7)),
        np.concatenate([[0.0], np.cumsum(random.uniform(0.2, 2, 12))]) - 5,
    )
    found = np.zeros((len(shapes), y.size - 1, x.size - 1))
    which, rows, columns, areas = cut(shapes, x, y, degrees=False)
    np.add.at(found, (which, rows, columns), areas)
    for at, shape in enumerate(shapes):
        expected = [
            [
                shape.intersection(shapely.box(x[i], y[j], x[i + 1], y[j + 1])).area
                for i in range(x.size - 1)
            ]
            for j in range(y.size - 1)
        ]
        np.testing.assert_allclose(found[at], expected, atol=1e-11)


def test_outlines_close_at_the_poles_and_over_the_dateline():
    east, north = np.meshgrid(np.arange(0, 360, 30.0), np.array([75.0, 85.0]))
    points, cells = outlines_in_plane(
        *(part.reshape(-1, 4) for part in corners_between(north, east))
    )
    assert set(cells) == set(range(24))
    assert np.abs(points[:, 1]).max() <= 1
    assert (
        np.abs(points[:, 1]) > 1 - 1e-12
    ).sum() >= 24  # those of the inner row reach the pole
    for cell in range(24):
        ring = points[cells == cell]
        np.testing.assert_array_equal(ring[0], ring[-1])
        assert np.ptp(ring[:, 0]) < np.pi
    gone, owners = outlines_in_plane(
        np.array([[0, np.nan, 1, 1], [0, 0, 1, 1.0]]),
        np.array([[0, 1, 1, 0], [179, 181, 181, 179.0]]),
    )
    assert set(owners) == {1}
    assert np.ptp(gone[:, 0]) == pytest.approx(np.radians(2))


@pytest.mark.parametrize(
    ("named", "terms"),
    [
        ("atmosphere_sigma_coordinate", "sigma: lev ps: ps ptop: ptop"),
        ("atmosphere_ln_pressure_coordinate", "p0: ptop lev: lev"),
    ],
)
def test_sigma_and_logarithmic_levels_are_pressures(named, terms):
    """A field that is the pressure itself comes back as the pressure asked for, linear in pressure,
    to 12 digits."""
    lev = np.linspace(0.05, 1, 25) if "sigma" in named else np.linspace(3, -0.1, 25)
    ps = np.array([99000.0, 101000.0])
    top = 1000.0 if "sigma" in named else 1e5
    pressure = (
        top + lev[:, None] * (ps - top)
        if "sigma" in named
        else np.broadcast_to(top * np.exp(-lev)[:, None], (25, 2))
    )
    data = Dataset(
        {
            v.name: v
            for v in (
                Variable(
                    "lev",
                    ("lev",),
                    InMemory(lev),
                    {
                        "standard_name": named,
                        "units": "1",
                        "formula_terms": terms,
                        "axis": "Z",
                    },
                ),
                Variable("ps", ("x",), InMemory(ps / 100), {"units": "hPa"}),
                Variable("ptop", (), InMemory(np.float64(top)), {"units": "Pa"}),
                Variable("p", ("lev", "x"), InMemory(pressure), {"units": "Pa"}),
            )
        }
    )
    made = Relevel(to="300hPa,700hPa", method="linear")(data)
    np.testing.assert_allclose(
        made["p"].values(), [[30000, 30000], [70000, 70000]], rtol=1e-12
    )
    logarithmic = Relevel(to="300hPa")(data)["p"].values()
    assert (np.abs(logarithmic / 30000 - 1) < 0.01).all()
    with pytest.raises(DataError, match="of lev lack '"):
        Relevel(to="300hPa")(
            data.with_variables(
                v.edit(formula_terms="x: lev") if v.name == "lev" else v
                for v in data.variables.values()
            )
        )


def test_formulas_take_means_and_levels_apart_and_spread_them_over_all_axes(rng):
    """Against numpy, 12 digits."""
    values = rng.normal(280, 5, (3, 2, 4, 6))
    names, axes = (
        ("time", "plev", "lat", "lon"),
        (
            np.arange(3.0),
            np.array([850.0, 500]),
            np.arange(0, 40, 10.0),
            np.arange(6.0) * 60,
        ),
    )
    units = ("days since 2000-01-01", "hPa", "degrees_north", "degrees_east")
    made = [
        Variable(n, (n,), InMemory(v), {"units": u})
        for n, v, u in zip(names, axes, units, strict=True)
    ]
    data = Dataset(
        {
            v.name: v
            for v in [*made, Variable("ta", names, InMemory(values), {"units": "K"})]
        }
    )

    def calc(formula):
        return Calc(formula=formula, name="x")(data)["x"]

    lapse = calc("level(ta, 850[hPa]) - level(ta, 50000[Pa])")
    assert (lapse.dimensions, lapse.units) == (("time", "lat", "lon"), "K")
    np.testing.assert_allclose(lapse.values(), values[:, 0] - values[:, 1], rtol=1e-12)
    zonal = calc("ta - mean(ta, lon)")
    np.testing.assert_allclose(
        zonal.values(), values - values.mean(axis=3, keepdims=True), atol=1e-10
    )
    spread = calc(
        "mean(ta, time) * lat / 1[degrees_north] + 0[K] * lon / 1[degrees_east]"
    )
    assert spread.dimensions == ("plev", "lat", "lon")
    np.testing.assert_allclose(
        spread.values(), values.mean(axis=0) * axes[2][:, None], rtol=1e-12
    )
    kept = Calc(formula="ta > 280", name="warm", keep=True)(data)
    assert {v.name for v in kept.fields} == {"ta", "warm"}
    assert kept["warm"].values().sum() == (values > 280).sum()
    with pytest.raises(DataError, match="has a variable ta already"):
        Calc(formula="ta", name="ta", keep=True)(data)


def test_sites_are_kept_by_region_and_boxes_are_cut_from_any_grid(demo, tmp_path):
    answer = run_here(
        "subset",
        "reservoirs.csv",
        "--region",
        "catchment.geojson",
        "-o",
        tmp_path / "in.csv",
        folder=demo,
    )
    assert answer.code == 0, answer.err
    inside = rhodolite.read(tmp_path / "in.csv")
    assert 5 < inside["altitude"].values().size < 12
    with pytest.raises(DataError, match="no site lies there"):
        rhodolite.read(demo / "reservoirs.csv").subset(region="Brazil")
    rotated = rhodolite.read(demo / "rotated_monthly.nc")
    box = Extract(lat="61N..62N", lon="8E..10E")(rotated)
    part = Subset(lat="61N..62N", lon="8E..10E")(rotated)
    assert box["ta"].dimensions == ("site", "time", "height")
    cells = part["ta"].values().reshape(*part["ta"].shape[:2], -1).transpose(2, 0, 1)
    within = np.isfinite(cells).any(axis=(1, 2))  # the block is wider than the box
    assert not within.all()
    np.testing.assert_array_equal(box["ta"].values(), cells[within])
    smooth = Calc(
        formula="0 * ta + 280[K] + lat * 0.6[K] / 1[degrees_north]", name="ta"
    )(rotated)
    found = smooth.extract(points=str(demo / "reservoirs.csv"), method="bilinear")
    expected = 280 + 0.6 * found["lat"].values()
    np.testing.assert_allclose(found["ta"].values()[:, 0, 0], expected, atol=2e-3)


def test_regions_and_members_are_curves_with_names(demo, tmp_path):
    words = [
        "summarise",
        "almandine_future.nc",
        "--region",
        "Norway,Brazil",
        "then",
        "aggregate",
        "--to",
        "year",
        "then",
        "draw",
        "series",
        "--variable",
        "tas",
    ]
    answer = run_here(*words, "-o", tmp_path / "a.svg", folder=demo)
    assert answer.code == 0, answer.err
    data = rhodolite.read(demo / "almandine_future.nc")
    made = rhodolite.Series(variable="tas")(data.summarise(region="Norway,Brazil"))
    texts = [text.get_text() for legend in made.legends for text in legend.get_texts()]
    assert texts == ["Norway", "Brazil"]
    names = (
        "Norway Sweden Finland Brazil Canada China India Australia Argentina Algeria Libya Egypt "
        "Mali Niger Chad Angola Mexico Peru Bolivia Kazakhstan Mongolia"
    )
    many = data.summarise(region=names.replace(" ", ","))
    with pytest.raises(DataError, match="has 21 curves along region; choose up to 20"):
        rhodolite.Series(variable="tas")(many)


def test_areas_that_a_file_names_itself_are_what_cells_weigh(rng):
    """Means and sums over the area against sums written out."""
    values, areas = rng.normal(size=(2, 3, 4)), rng.uniform(1, 5, (3, 4))
    data = make_dataset(
        values,
        times=[0, 1],
        lats=[0, 10, 20],
        lons=[0, 10, 20, 30],
        attributes={"cell_measures": "area: areas"},
    )
    data = data.with_variables(
        [
            *data.variables.values(),
            Variable("areas", ("lat", "lon"), InMemory(areas), {"units": "m2"}),
        ]
    )
    assert [v.name for v in data.fields] == ["tas"]
    expected = (values * areas).sum(axis=(1, 2)) / areas.sum()
    for made in (
        Summarise()(data),
        Summarise(statistic="mean", min_coverage=0.1)(data),
        Summarise()(Subset(variable="tas")(data)),
    ):
        np.testing.assert_allclose(made["tas"].values(), expected, rtol=1e-12)
    assert "areas" not in Summarise()(data).variables


@given(st.integers(0, 999), st.sampled_from([0.1, 0.5, 0.9]))
def test_the_order_of_equal_values_changes_no_percentile(seed, share):
    """Values with ties in any order, and with equal weights those of NumPy (13 digits)."""
    random = np.random.default_rng(seed)
    values, weights = (
        random.integers(0, 4, (2, 30)).astype(float),
        random.random(30) + 0.1,
    )
    order = random.permutation(30)
    np.testing.assert_allclose(
        weighted_percentile(values, weights, share),
        weighted_percentile(values[:, order], weights[order], share),
        rtol=1e-12,
    )
    np.testing.assert_allclose(
        weighted_percentile(values, np.full(30, 0.3), share),
        np.quantile(values, share, axis=1),
        rtol=1e-13,
    )
