"""Cells, outlines and what they share: against closed forms, shapely, and sums written out."""

from __future__ import annotations

import json

import numpy as np
import pytest
import shapely
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy import sparse

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import DataError, Engine, Regrid, RhodoliteWarning, Subset, Summarise
from rhodolite.api.dataset import Dataset
from rhodolite.arrays import InMemory
from rhodolite.kernels.interpolation import bilinear_in_quads, linear_weights, nearest
from rhodolite.kernels.interval_overlap import overlaps, overlaps_round
from rhodolite.kernels.sphere import from_rotated, great_circle
from rhodolite.kernels.spherical_cells import corners_between
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.variable import Variable
from rhodolite.operations.parameters.regions import CellChoice, Regions
from rhodolite.operations.regridding.remapped_array import Remapped
from rhodolite.operations.regridding.weights import (
    bilinear,
    conservative,
    nearest_cells,
)
from rhodolite.pipeline.side_inputs import SideInputs
from rhodolite.regions.outlines import country_names, find_outlines
from rhodolite.regions.polygon_overlap import area_on_sphere


def regular(lat_edges, lon_edges):
    """A mesh of rectangles between edges."""
    y, x = np.asarray(lat_edges, float), np.asarray(lon_edges, float)
    return Mesh(("lat", "lon"), (y[1:] + y[:-1]) / 2, (x[1:] + x[:-1]) / 2, y, x)


def globe(step, west=0.0):
    return regular(
        np.linspace(-90, 90, round(180 / step) + 1),
        west + np.linspace(0, 360, round(360 / step) + 1),
    )


def rotated(step=2.0, pole=(39.25, -162.0), half=20.0):
    """A mesh whose cells are rectangles about another pole, as regional models have them."""
    rows = np.arange(-half, half + step / 2, step)
    grid = np.meshgrid(rows, rows, indexing="ij")
    north, east = from_rotated(*grid, *pole)
    return Mesh(("y", "x"), north, east, corners=corners_between(north, east))


def values_on(mesh, weights, field, target, coverage=0.0):
    source = InMemory(np.asarray(field, float).reshape(1, *mesh.shape))
    return Remapped(source, (1, 2), target.shape, weights, coverage).read(
        (slice(0, 1), slice(0, target.shape[0]), slice(0, target.shape[1]))
    )[0]


def curvilinear_dataset(mesh, values, **attributes):
    """A dataset of one field over a two-dimensional grid."""
    about = {
        "units": "K",
        "standard_name": "air_temperature",
        "coordinates": "lat lon",
    } | attributes
    return Dataset(
        {
            v.name: v
            for v in (
                Variable(
                    "lat",
                    ("y", "x"),
                    InMemory(mesh.latitudes),
                    {"units": "degrees_north"},
                ),
                Variable(
                    "lon",
                    ("y", "x"),
                    InMemory(mesh.longitudes),
                    {"units": "degrees_east"},
                ),
                Variable("tas", ("y", "x"), InMemory(np.asarray(values, float)), about),
            )
        }
    )


edges_of = st.lists(st.floats(-85, 85), min_size=3, max_size=9, unique=True).map(sorted)


@pytest.mark.slow
@given(edges_of, edges_of, st.booleans(), st.booleans())
def test_overlaps_of_axes_agree_with_a_double_loop(a, b, flip_a, flip_b):
    """To 12 digits."""
    assume(min(np.diff(a)) > 1e-6 and min(np.diff(b)) > 1e-6)
    expected = np.array(
        [
            [
                max(0.0, min(a[i + 1], b[j + 1]) - max(a[i], b[j]))
                for i in range(len(a) - 1)
            ]
            for j in range(len(b) - 1)
        ]
    )
    first, second = (
        np.array(a)[:: -1 if flip_a else 1],
        np.array(b)[:: -1 if flip_b else 1],
    )
    expected = expected[:: -1 if flip_b else 1, :: -1 if flip_a else 1]
    np.testing.assert_allclose(overlaps(first, second).toarray(), expected, atol=1e-12)
    turned = overlaps_round(first + 720.0, second)
    np.testing.assert_allclose(turned.toarray(), expected, atol=1e-9)


def test_cells_of_any_globe_add_up_to_the_sphere():
    assert globe(7.5).areas.sum() == pytest.approx(4 * np.pi, rel=1e-14)
    plain = globe(2.5, west=-180.0)
    north, east = plain.centres
    built = Mesh(("y", "x"), north, east, corners=corners_between(north, east))
    assert built.areas.sum() == pytest.approx(4 * np.pi, rel=1e-11)
    # Cells in six columns round a pole, whose innermost row meets in it.
    north, east = from_rotated(
        *np.meshgrid(np.arange(-85, 86, 10.0), np.arange(0, 360, 10.0), indexing="ij"),
        50.0,
        20.0,
    )
    turned = Mesh(("y", "x"), north, east, corners=corners_between(north, east))
    # The caps about the other pole are no cells with corners in them, so little is lost there.
    assert turned.areas.sum() == pytest.approx(4 * np.pi, rel=5e-3)


def test_a_cell_about_the_pole_has_the_area_of_its_cap():
    """Against 2 pi (1 - sin 80) where edges run along the parallel, and against 24 spherical
    triangles where they are great circles."""
    corners = np.full((1, 1, 24), 80.0), np.linspace(0, 360, 25)[:-1][None, None]
    cap, polygon = (
        Mesh(
            ("y", "x"),
            np.array([[90.0]]),
            np.array([[0.0]]),
            corners=corners,
            straight=straight,
        )
        for straight in (True, False)
    )
    assert cap.areas[0, 0] == pytest.approx(
        2 * np.pi * (1 - np.sin(np.radians(80))), rel=1e-12
    )
    assert cap.reach == (pytest.approx(80.0), 90.0)
    half = np.tan(np.radians(5)) ** 2, np.radians(15)
    excess = 2 * np.arctan2(half[0] * np.sin(half[1]), 1 + half[0] * np.cos(half[1]))
    assert polygon.areas[0, 0] == pytest.approx(24 * excess, rel=1e-10)


@st.composite
def grids(draw):
    """Global, regional, two-dimensional grids, and those across the dateline."""
    kind = draw(st.sampled_from(["globe", "gauss", "region", "dateline", "rotated"]))
    if kind == "globe":
        return globe(
            draw(st.sampled_from([7.5, 10.0, 12.0, 22.5])),
            draw(st.sampled_from([-180.0, 0.0, -7.3])),
        )
    if kind == "gauss":
        nodes = np.degrees(
            np.arcsin(np.polynomial.legendre.leggauss(draw(st.integers(6, 14)))[0])
        )
        return regular(
            [-90, *((nodes[1:] + nodes[:-1]) / 2), 90], np.linspace(0, 360, 25) - 7.5
        )
    if kind == "rotated":
        return rotated(
            4.0,
            (
                draw(st.sampled_from([39.25, 5.0, 88.0])),
                draw(st.sampled_from([-162.0, 0.0, 100.0])),
            ),
        )
    south, west = (
        draw(st.floats(-80, 20)),
        165.0 if kind == "dateline" else draw(st.floats(-170, 100)),
    )
    return regular(
        south + np.linspace(0, 60, draw(st.integers(5, 12))),
        west + np.linspace(0, 50, draw(st.integers(5, 12))),
    )


@pytest.mark.slow
@given(grids(), grids(), st.integers(0, 99), st.sampled_from([1, 2]))
def test_conservative_weights_keep_the_integral_over_what_grids_share(
    source, target, seed, order
):
    """To 12 digits of the integral of the absolute values; constants come out exact."""
    field = np.random.default_rng(seed).normal(5, 2, source.shape)
    areas = source.shared_areas(target)
    covered = np.asarray(areas.sum(axis=0)).reshape(source.shape)
    assume(areas.nnz)
    order = order if source.regular and target.regular else 1
    weights = conservative(source, target, order)
    made = values_on(source, weights, field, target)
    shared = np.asarray(areas.sum(axis=1)).reshape(target.shape)
    there = ~np.isnan(made)
    whole = np.abs(covered / source.areas - 1) < 1e-9
    if order == 1 or whole.all():
        total = (made[there] * shared[there]).sum()
        assert total == pytest.approx((field * covered).sum(), rel=1e-12)
    constant = values_on(
        source, conservative(source, target, 1), np.full(source.shape, 7.25), target
    )
    np.testing.assert_allclose(constant[~np.isnan(constant)], 7.25, rtol=1e-14)
    if source.goes_round and target.regular:
        assert there.all()


@pytest.mark.parametrize(
    "mesh",
    [globe(10.0), regular([10, 20, 25, 40], [170, 180, 190]), rotated(5.0)],
    ids=["globe", "dateline", "rotated"],
)
@pytest.mark.parametrize(
    "method",
    [lambda a, b: conservative(a, b, 1), bilinear, nearest_cells],
    ids=["conservative", "bilinear", "nearest"],
)
def test_the_same_grid_gives_the_same_values(mesh, method, rng):
    field = rng.normal(size=mesh.shape)
    np.testing.assert_allclose(
        values_on(mesh, method(mesh, mesh), field, mesh), field, rtol=1e-9, atol=1e-9
    )


def smooth(north, east):
    return 2 + np.cos(np.radians(north)) ** 2 * np.cos(2 * np.radians(east))


def harmonic(north, east):
    """The real harmonic of degree 32 and order 16, scaled to at most about 1."""
    from scipy.special import sph_harm_y

    return 2 + np.real(
        sph_harm_y(32, 16, np.pi / 2 - np.radians(north), np.radians(east))
    )


def cell_means(mesh, field):
    """Means over rectangles by Gaussian quadrature of 4 x 4 points."""
    points, weights = np.polynomial.legendre.leggauss(4)
    y, x = np.sin(mesh.edges[0]), mesh.edges[1]
    total = np.zeros(mesh.shape)
    for a, wa in zip(points, weights, strict=True):
        for b, wb in zip(points, weights, strict=True):
            north = np.degrees(
                np.arcsin((y[1:] + y[:-1]) / 2 + (y[1:] - y[:-1]) / 2 * a)
            )
            east = np.degrees((x[1:] + x[:-1]) / 2 + (x[1:] - x[:-1]) / 2 * b)
            total += wa * wb / 4 * field(north[:, None], east[None, :])
    return total


@pytest.mark.slow
@pytest.mark.parametrize("field", [smooth, harmonic])
@pytest.mark.parametrize(
    ("method", "order"),
    [
        (lambda a, b: conservative(a, b, 1), 1),
        (lambda a, b: conservative(a, b, 2), 2),
        (bilinear, 2),
        (nearest_cells, 1),
    ],
    ids=["conservative", "second-order", "bilinear", "nearest"],
)
def test_errors_fall_at_the_expected_order_when_the_grid_is_refined(
    field, method, order
):
    """Root mean square errors against the analytic field, from 1 / 40 to 1 / 80 of a circle and
    on."""
    errors = []
    means = method.__name__ == "<lambda>"
    for step in (2.5, 1.25):
        source, target = globe(step), globe(step * 0.8, west=-180.0)
        taken = cell_means(source, field) if means else field(*source.centres)
        wanted = cell_means(target, field) if means else field(*target.centres)
        made = values_on(source, method(source, target), taken, target)
        errors.append(np.sqrt(np.average((made - wanted) ** 2, weights=target.areas)))
    assert np.log2(errors[0] / errors[1]) > order - 0.25


def test_bilinear_weights_on_two_dimensional_grids_are_exact_for_what_is_linear(rng):
    mesh = rotated(2.0)
    north, east = rng.uniform(55, 66, 200), rng.uniform(8, 28, 200)
    cells, _ = nearest(*(part.ravel() for part in mesh.centres), north, east)
    weights = bilinear_in_quads(*mesh.centres, north, east, cells[:, 0])
    np.testing.assert_allclose(weights.sum(axis=1), 1, rtol=1e-12)
    # A rotation of the sphere that makes rows and columns straight: the grid's own coordinates.
    there = weights @ np.stack(
        [
            np.sin(np.radians(mesh.latitudes.ravel())),
            np.cos(np.radians(mesh.latitudes.ravel())),
        ],
        1,
    )
    assert np.degrees(np.arctan2(*there.T)) == pytest.approx(north, abs=0.02)


@pytest.mark.parametrize("first", [0, 7, 30])
def test_a_two_dimensional_grid_around_the_globe_has_no_seam(first, rng):
    """Whichever column comes first; close to what the same cells give as a regular grid."""
    plain, target = globe(10.0), globe(4.0, west=-180.0)
    corners = corners_between(*plain.centres)
    order = np.roll(np.arange(plain.shape[1]), first)
    rolled = Mesh(
        ("y", "x"),
        *(part[:, order] for part in plain.centres),
        corners=tuple(part[:, order] for part in corners),
    )
    field = rng.normal(size=plain.shape)
    ours = values_on(rolled, bilinear(rolled, target), field[:, order], target)
    expected = values_on(plain, bilinear(plain, target), field, target)
    within = (
        np.abs(target.centres[0]) < 60
    )  # where great circles are near the parallels
    assert np.abs(ours - expected)[within].max() < 0.1
    nothing = bilinear(rolled, target).matrix.sum(axis=1)
    np.testing.assert_allclose(nothing, 1, rtol=1e-9)


def test_linear_weights_reach_over_the_seam_and_stop_at_the_edges():
    centres, edges = np.array([45.0, 135.0, 225.0, 315.0]), np.arange(0, 361, 90.0)
    weights = linear_weights(
        centres, edges, np.array([0.0, 90.0, 360.0, -45.0]), 360.0
    ).toarray()
    np.testing.assert_allclose(
        weights, [[0.5, 0, 0, 0.5], [0.5, 0.5, 0, 0], [0.5, 0, 0, 0.5], [0, 0, 0, 1]]
    )
    open_ended = linear_weights(centres, edges, np.array([10.0, 350.0, 361.0]))
    np.testing.assert_allclose(
        open_ended.toarray(), [[1, 0, 0, 0], [0, 0, 0, 1], [0, 0, 0, 0]]
    )


def test_bilinear_goes_over_the_pole():
    source, target = globe(10.0), globe(2.0)
    north, east = source.centres
    x = np.cos(np.radians(north)) * np.cos(np.radians(east))
    made = values_on(source, bilinear(source, target), x, target)
    expected = np.cos(np.radians(target.centres[0])) * np.cos(
        np.radians(target.centres[1])
    )
    assert np.abs(made - expected)[np.abs(target.latitudes) > 80].max() < 0.01


def test_missing_cells_are_left_out_and_the_rest_weighs_anew():
    source, target = globe(10.0), globe(20.0)
    field = np.arange(source.size, dtype=float).reshape(source.shape)
    field[0, 0] = np.nan
    made = values_on(source, conservative(source, target, 1), field, target)
    rest = [(0, 1), (1, 0), (1, 1)]
    expected = np.average(
        [field[at] for at in rest], weights=[source.areas[at] for at in rest]
    )
    assert made[0, 0] == pytest.approx(expected, rel=1e-12)
    strict = values_on(
        source, conservative(source, target, 1), field, target, coverage=0.99
    )
    assert np.isnan(strict[0, 0])
    assert np.isnan(strict).sum() == 1
    second = values_on(source, conservative(source, target, 2), field, target)
    assert np.isfinite(second).all()


@pytest.mark.parametrize("choice", list(CellChoice))
@pytest.mark.parametrize(
    "mesh",
    [globe(5.0), globe(4.0, west=-180.0), rotated(2.0)],
    ids=["0..360", "-180..180", "rotated"],
)
def test_countries_cover_the_cells_that_shapely_says(mesh, choice):
    """Fractions add up to the outline's own area, to 9 digits where the grid holds all of it."""
    name = "Sweden"
    outline = find_outlines(name)[0]
    weights = Regions((name,)).loaded(SideInputs()).weights(mesh, choice).toarray()[0]
    exact = area_on_sphere(outline.shapes).sum()
    if choice is CellChoice.FRACTION:
        assert weights.sum() == pytest.approx(exact, rel=1e-9 if mesh.regular else 1e-5)
    share = weights / mesh.areas.ravel()
    assert ((share > -1e-12) & (share < 1 + 1e-9)).all()
    if choice is CellChoice.CENTRE:
        north, east = (part.ravel() for part in mesh.centres)
        inside = shapely.contains_xy(
            shapely.union_all(outline.shapes), (east + 180) % 360 - 180, north
        )
        np.testing.assert_array_equal(weights > 0, inside)


def test_areas_of_outlines_agree_with_shapely_in_an_equal_area_plane():
    """To 6 digits, with edges cut into pieces of a hundredth of a degree."""
    for name in ("Norway", "Fiji", "Antarctica", "Lesotho"):
        shapes = find_outlines(name)[0].shapes
        bent = shapely.transform(
            shapely.segmentize(shapes, 0.01),
            lambda p: np.stack(
                [np.radians(p[:, 0]), np.sin(np.radians(p[:, 1]))], axis=1
            ),
        )
        assert area_on_sphere(shapes).sum() == pytest.approx(
            shapely.area(bent).sum(), rel=1e-6
        )


def test_all_countries_are_found_under_full_and_stored_names_and_cover_the_land():
    names = country_names()
    assert len(names) == 241
    for asked, found in (
        ("norway", "Norway"),
        ("South Sudan", "South Sudan"),
        ("S. Sudan", "South Sudan"),
        ("uk", "United Kingdom"),
        ("cote d'ivoire", "Côte d'Ivoire"),
    ):
        assert find_outlines(asked)[0].name == found
    mesh = globe(5.0)
    areas = mesh.covered_areas(
        [find_outlines(word)[0] for word in ("land", "sea", *names)]
    ).toarray()
    assert areas[0] + areas[1] == pytest.approx(mesh.areas.ravel(), rel=1e-9)
    assert areas[2:].sum() == pytest.approx(areas[0].sum(), rel=1e-4)
    assert 0.70 < areas[1].sum() / (4 * np.pi) < 0.72
    with pytest.raises(DataError, match=r"no country 'Norwya'. Did you mean Norway"):
        find_outlines("Norwya")


SQUARE = [[[170, -10], [190, -10], [190, 10], [170, 10], [170, -10]]]


def geojson(path, *features):
    path.write_text(
        json.dumps(
            {
                "type": "FeatureCollection",
                "features": [
                    {
                        "type": "Feature",
                        "properties": words,
                        "geometry": {"type": "Polygon", "coordinates": rings},
                    }
                    for words, rings in features
                ],
            }
        )
    )
    return path


def test_outlines_in_files_are_chosen_mended_or_refused_by_name(tmp_path):
    across = [[[170, -10], [-170, -10], [-170, 10], [170, 10], [170, -10]]]
    path = geojson(
        tmp_path / "a.geojson", ({"NAME": "Wide"}, SQUARE), ({"NAME": "Across"}, across)
    )
    wide, other = find_outlines(str(path))
    expected = 2 * np.sin(np.radians(10)) * np.radians(20)
    assert [o.name for o in (wide, other)] == ["Wide", "Across"]
    for outline in (
        wide,
        other,
        *find_outlines(f"{path}#across"),
        *find_outlines(f"{path}#2"),
    ):
        assert area_on_sphere(outline.shapes).sum() == pytest.approx(
            expected, rel=1e-12
        )
        assert globe(5.0, west=-180.0).covered_areas([outline]).sum() == pytest.approx(
            expected, rel=1e-12
        )
    bow = geojson(
        tmp_path / "bow.geojson",
        ({"name": "Bow"}, [[[0, 0], [10, 10], [10, 0], [0, 10], [0, 0]]]),
    )
    with pytest.warns(
        RhodoliteWarning,
        match=r"the outline of Bow is broken .self-intersection. and was repaired",
    ):
        assert len(find_outlines(str(bow))[0].shapes) == 2
    holed = geojson(
        tmp_path / "hole.geojson",
        ({}, [*SQUARE, [[178, -1], [178, 1], [182, 1], [182, -1], [178, -1]]]),
    )
    hole = 2 * np.sin(np.radians(1)) * np.radians(4)
    assert area_on_sphere(find_outlines(str(holed))[0].shapes).sum() == pytest.approx(
        expected - hole, rel=1e-12
    )
    for rings, message in (
        ([[[0, 0], [1, 1]]], "fewer than three positions"),
        ([[[5e5, 6e6], [6e5, 6e6], [6e5, 7e6], [5e5, 6e6]]], "which are no degrees"),
        ([[[0, 0], [1, 1], [2, 2], [0, 0]]], "encloses nothing"),
        ([[["a", 0], [1, 1], [2, 2], [0, 0]]], "not a position"),
    ):
        with pytest.raises(DataError, match=message):
            find_outlines(str(geojson(tmp_path / "b.geojson", ({"name": "B"}, rings))))
    (tmp_path / "c.geojson").write_text("{")
    for text, message in (
        (f"{tmp_path}/c.geojson", "this is not valid GeoJSON"),
        (f"{path}#Wyde", "Did you mean Wide"),
        (f"{tmp_path}/d.shp", "there is no such file"),
    ):
        with pytest.raises(DataError, match=message):
            find_outlines(text)


@pytest.mark.slow
@settings(max_examples=20)
@given(
    st.integers(0, 200),
    st.sampled_from(["fraction", "centre", "touched"]),
    st.booleans(),
)
def test_a_region_cut_out_first_or_summarised_at_once_is_the_same(
    seed, cells, curvilinear
):
    random = np.random.default_rng(seed)
    mesh = (
        rotated(3.0) if curvilinear else globe(10.0, west=random.choice([0.0, -180.0]))
    )
    values = random.normal(280, 10, mesh.shape)
    values[random.random(mesh.shape) < 0.2] = np.nan
    data = (
        curvilinear_dataset(mesh, values)
        if curvilinear
        else make_dataset(
            values[None], times=[0], lats=mesh.latitudes, lons=mesh.longitudes
        )
    )
    name = (
        "Norway,Sweden"
        if curvilinear
        else random.choice(["Russia", "land", "sea", "China,Canada"])
    )
    names = name.split(",")
    at_once = data.summarise(region=name, cells=cells)["tas"].values()
    assert at_once.shape[-1] == len(names)
    if len(names) == 1:
        first = Summarise()(data.subset(region=name, cells=cells))["tas"].values()
        np.testing.assert_allclose(first, at_once[..., 0], rtol=1e-9)
    weights = (
        Regions(tuple(names))
        .loaded(SideInputs())
        .weights(mesh, CellChoice(cells))
        .toarray()
    )
    expected = [
        np.nansum(row * values.ravel()) / row[~np.isnan(values.ravel())].sum()
        for row in weights
    ]
    np.testing.assert_allclose(np.atleast_2d(at_once)[0], expected, rtol=1e-10)


@pytest.mark.parametrize(
    "words",
    [
        {"region": "Russia,Brazil"},
        {"latitude_bands": 20},
        {"statistic": "sum,median"},
        {},
    ],
)
def test_the_order_of_axes_changes_no_statistic(words, rng):
    mesh = globe(10.0)
    data = make_dataset(
        rng.normal(size=(2, *mesh.shape)),
        times=[0, 1],
        lats=mesh.latitudes,
        lons=mesh.longitudes,
    )
    tas = data["tas"]
    turned = tas.replace(
        dimensions=("lon", "time", "lat"),
        data=InMemory(tas.values().transpose(2, 0, 1)),
    )
    other = data.with_variables(
        [*(v for v in data.variables.values() if v is not tas), turned]
    )
    for first, second in zip(
        data.summarise(**words).fields,
        other.summarise(**words).fields,
        strict=True,
    ):
        values = second.values()
        order = [second.dimensions.index(name) for name in first.dimensions]
        np.testing.assert_allclose(values.transpose(order), first.values(), rtol=1e-12)
    regridded = Regrid(to="15")(other)["tas"].values().transpose(1, 2, 0)
    np.testing.assert_array_equal(regridded, Regrid(to="15")(data)["tas"].values())


def test_a_cropped_region_crosses_the_dateline_in_one_piece():
    mesh = globe(5.0, west=-180.0)
    data = make_dataset(
        np.zeros((1, *mesh.shape)), times=[0], lats=mesh.latitudes, lons=mesh.longitudes
    )
    part = data.subset(region="Fiji")
    assert part["lon"].values()[-2:].tolist() == [177.5, 182.5]
    assert part["covered_area"].values().sum() == pytest.approx(
        18398e6, rel=1e-3
    )  # m2, the area of its outline
    with pytest.raises(DataError, match=r"Norway .* covers no cell of the data"):
        Subset(lat="10S..10N")(data).subset(region="Norway")
    with pytest.raises(
        DataError, match="Vatican holds the centre of no cell; add --cells fraction"
    ):
        data.subset(region="Vatican", cells="centre")


@pytest.mark.parametrize(
    "statistic",
    ["mean", "sum", "min", "max", "std", "median", "p90", "count", "range", "variance"],
)
@pytest.mark.parametrize("over", ["area", "lat", "lon", "level", "time"])
def test_statistics_over_an_axis_agree_with_numpy(rng, statistic, over):
    """With equal weights against numpy, 10 digits; all in small blocks."""
    values = rng.normal(280, 10, (6, 4, 5, 8))
    values[rng.random(values.shape) < 0.2] = np.nan
    half = np.degrees(np.arcsin(np.linspace(-1, 1, 6)))
    names = ("time", "z", "lat", "lon")
    coordinates = (
        np.arange(6.0),
        np.arange(4.0),
        np.degrees(np.arcsin(np.linspace(-0.8, 0.8, 5))),
        np.arange(8) * 45.0,
    )
    units = ("days since 2000-01-01", "m", "degrees_north", "degrees_east")
    made = [
        Variable(
            n,
            (n,),
            InMemory(v),
            {"units": u}
            | ({"positive": "up", "bounds": "b"} if n == "z" else {})
            | ({"bounds": "lat_b"} if n == "lat" else {}),
        )
        for n, v, u in zip(names, coordinates, units, strict=True)
    ]
    made += [
        Variable(
            "b",
            ("z", "bnds"),
            InMemory(np.stack([np.arange(4.0), np.arange(1, 5.0)], axis=1)),
        ),
        Variable(
            "lat_b", ("lat", "bnds"), InMemory(np.stack([half[:-1], half[1:]], axis=1))
        ),
        Variable(
            "x",
            names,
            InMemory(values),
            {"units": "kg m-2", "standard_name": "rainfall_amount"},
        ),
    ]
    data = Dataset({v.name: v for v in made})
    axes = {"area": (2, 3), "lat": (2,), "lon": (3,), "level": (1,), "time": (0,)}[over]
    found = Summarise(over=over, statistic=statistic)(data)["x"].values(
        Engine(memory=1 << 20)
    )
    work = {
        "mean": np.nanmean,
        "sum": np.nansum,
        "min": np.nanmin,
        "max": np.nanmax,
        "median": np.nanmedian,
        "std": lambda v, axis: np.nanstd(v, axis=axis, ddof=1),
        "variance": lambda v, axis: np.nanvar(v, axis=axis, ddof=1),
        "p90": lambda v, axis: np.nanpercentile(v, 90, axis=axis),
        "count": lambda v, axis: (~np.isnan(v)).sum(axis=axis),
        "range": lambda v, axis: np.nanmax(v, axis=axis) - np.nanmin(v, axis=axis),
    }[statistic]
    np.testing.assert_allclose(found, work(values, axis=axes), rtol=1e-10)


def test_bands_of_latitude_agree_with_sums_written_out(rng):
    """On a regular grid bands cut cells, to 12 digits; on a rotated one they add up to the
    whole."""
    lats, lons = np.array([-7.0, -2, 3, 8]), np.arange(0, 360, 60.0)
    values = rng.normal(size=(1, 4, 6))
    data = make_dataset(values, times=[0], lats=lats, lons=lons)
    found = Summarise(latitude_bands=4)(data)
    bounds = found["lat_bnds"].values()
    assert bounds[:, 0].tolist() == [-12, -8, -4, 0, 4, 8]
    edges = np.array([-9.5, -4.5, 0.5, 5.5, 10.5])
    for band, value in zip(bounds, found["tas"].values()[0], strict=True):
        low, high = np.maximum(edges[:-1], band[0]), np.minimum(edges[1:], band[1])
        weight = np.maximum(np.sin(np.radians(high)) - np.sin(np.radians(low)), 0)
        assert value == pytest.approx(
            (values[0].mean(axis=1) * weight).sum() / weight.sum(), rel=1e-12
        )
    mesh = rotated(2.0)
    tilted = curvilinear_dataset(mesh, rng.normal(size=mesh.shape))
    edges = np.arange(24, 91, 3.0)
    areas = mesh.in_bands(edges)
    np.testing.assert_allclose(
        np.asarray(areas.sum(axis=0)), mesh.areas.ravel(), rtol=1e-10
    )
    means = Summarise(latitude_bands=3)(tilted)
    weights = areas[np.flatnonzero(np.diff(areas.indptr))].sum(axis=1)
    total = np.average(tilted["tas"].values().ravel(), weights=mesh.areas.ravel())
    assert np.average(
        means["tas"].values(), weights=np.asarray(weights).ravel()
    ) == pytest.approx(total, rel=1e-10)


def test_levels_weigh_by_pressure_between_them(rng):
    """The trapezoidal rule of NumPy over pressure, to 12 digits."""
    p = np.array([1000.0, 850, 500, 300, 250])
    values = rng.normal(size=(5, 3))
    data = Dataset(
        {
            v.name: v
            for v in (
                Variable(
                    "plev", ("plev",), InMemory(p), {"units": "hPa", "positive": "down"}
                ),
                Variable(
                    "lat",
                    ("lat",),
                    InMemory(np.arange(3.0)),
                    {"units": "degrees_north"},
                ),
                Variable("ta", ("plev", "lat"), InMemory(values), {"units": "K"}),
            )
        }
    )
    expected = np.trapezoid(values, p, axis=0) / (p[-1] - p[0])
    np.testing.assert_allclose(
        Summarise(over="level")(data)["ta"].values(), expected, rtol=1e-12
    )


@pytest.mark.parametrize(
    ("words", "code", "message"),
    [
        (
            "summarise x --over lon --region Norway",
            2,
            "--region goes with --over area, not with --over lon",
        ),
        ("summarise x --statistic count-above", 2, "needs a threshold"),
        ("summarise x --latitude-bands 0", 2, "is not the width of a band"),
        (
            "summarise rotated_monthly.nc --over lon",
            3,
            "--latitude-bands 2 gives bands of latitude",
        ),
        (
            "summarise rotated_monthly.nc --over ensemble",
            3,
            "name their files with --members",
        ),
        ("summarise reservoirs.csv", 3, "this needs a grid"),
        (
            "subset garnet_monthly_1981-2020.nc --region Atlantis",
            3,
            "no country 'Atlantis'",
        ),
        (
            "regrid garnet_monthly_1981-2020.nc",
            2,
            "say where to with one of --to 1.0, --like FILE, --weights FILE",
        ),
        ("regrid garnet_monthly_1981-2020.nc --to 7", 3, "do not fit round the globe"),
        (
            "regrid garnet_monthly_1981-2020.nc --to two",
            2,
            "is not a step in degrees; write 1.0",
        ),
        (
            "regrid rotated_monthly.nc --to 1 --order 2",
            3,
            "--order 2 is for grids along latitude and longitude",
        ),
        (
            "regrid garnet_monthly_1981-2020.nc --to 5 --method bilinear --order 2",
            2,
            "other methods have none",
        ),
        (
            "regrid rotated_monthly.nc --like reservoirs.csv",
            3,
            "extract --points takes values at sites",
        ),
        (
            "regrid rotated_monthly.nc --weights rotated_monthly.nc",
            3,
            "this file holds no regridding weights",
        ),
        ("extract rotated_monthly.nc --points none.csv", 3, "there is no such file"),
        ("extract rotated_monthly.nc --search 2", 2, "--search goes with --points"),
    ],
)
def test_what_cannot_be_done_in_space_is_said(demo, tmp_path, words, code, message):
    answer = run_here(*words.split(), "-o", tmp_path / "a.nc", folder=demo)
    assert (answer.code, message in answer.err) == (code, True), answer.err
    assert not (tmp_path / "a.nc").exists()


def test_a_step_covers_the_extent_with_edges_on_its_multiples(demo, tmp_path):
    for words, lat, lon in (
        ("--to 2.5", (-88.75, 72), (1.25, 144)),
        ("--to lat=10,lon=15", (-85.0, 18), (7.5, 24)),
    ):
        answer = run_here(
            "regrid",
            "almandine_future.nc",
            *words.split(),
            "-o",
            tmp_path / "a.nc",
            "--overwrite",
            folder=demo,
        )
        assert answer.code == 0, answer.err
        data = rhodolite.read(tmp_path / "a.nc")
        for name, (first, count) in (("lat", lat), ("lon", lon)):
            values = data[name].values()
            assert (values[0], values.size) == (first, count)
            np.testing.assert_allclose(
                data[f"{name}_bnds"].values().mean(axis=1), values
            )
    part = Subset(lat="61N..64N", lon="175E..171W")(
        make_dataset(
            np.zeros((1, 90, 180)),
            times=[0],
            lats=np.arange(-89, 90, 2),
            lons=np.arange(1, 360, 2),
        )
    )
    small = Regrid(to="3")(part)
    np.testing.assert_allclose(small["lat_bnds"].values()[[0, -1], [0, 1]], [60, 66])
    np.testing.assert_allclose(small["lon_bnds"].values()[[0, -1], [0, 1]], [174, 192])


def test_weights_are_kept_in_a_file_and_used_again(demo, tmp_path):
    common = ["garnet_monthly_1981-2020.nc", "--quiet"]
    for order in (1, 2):
        words = [
            "regrid",
            *common,
            "--to",
            "lat=6,lon=5",
            "--order",
            order,
            "--save-weights",
            tmp_path / f"w{order}.nc",
        ]
        assert run_here(*words, "-o", tmp_path / f"a{order}.nc", folder=demo).code == 0
        again = [
            "regrid",
            *common,
            "--weights",
            tmp_path / f"w{order}.nc",
            "-o",
            tmp_path / f"b{order}.nc",
        ]
        assert run_here(*again, folder=demo).code == 0
        first, second = (
            rhodolite.read(tmp_path / f"{letter}{order}.nc") for letter in "ab"
        )
        np.testing.assert_allclose(
            first["tas"].values(), second["tas"].values(), rtol=1e-6
        )
        assert first["lat"].attributes == second["lat"].attributes
    stored = rhodolite.read(tmp_path / "w1.nc")
    matrix = sparse.csr_array(
        (
            stored["share"].values(),
            (stored["new_cell"].values(), stored["old_cell"].values()),
        )
    )
    np.testing.assert_allclose(matrix.sum(axis=1), 1, rtol=1e-12)
    answer = run_here(
        "regrid",
        "almandine_future.nc",
        "--weights",
        tmp_path / "w1.nc",
        "-o",
        tmp_path / "c.nc",
        folder=demo,
    )
    assert "the weights are for another grid" in answer.err


@pytest.mark.slow
def test_what_is_seldom_meant_is_said_once(demo, tmp_path):
    def warnings_of(words):
        answer = run_here(
            *words.split(), "-o", tmp_path / "a.nc", "--overwrite", folder=demo
        )
        assert answer.code == 0, answer.err
        return answer.err

    assert "bilinear takes the nearest of those only; --method" in warnings_of(
        "regrid garnet_monthly_1981-2020.nc --to 10 --method bilinear"
    )
    assert "pr: bilinear does not keep amounts" in warnings_of(
        "regrid garnet_monthly_1981-2020.nc --to 2 --method bilinear"
    )
    assert "as narrow as the old" in warnings_of("regrid almandine_future.nc --to 1")
    classes = "index garnet_monthly_1981-2020.nc --classes then regrid --to 5"
    answer = run_here(*classes.split(), "-o", tmp_path / "b.nc", folder=demo)
    assert (
        "holds flags or classes, of which there is no mean; add --method nearest"
        in answer.err
    )
    assert "warning" not in warnings_of(f"{classes} --method nearest")


@given(st.integers(0, 1000), st.integers(1, 4))
def test_blocks_and_workers_change_no_value_on_another_grid(seed, workers):
    random = np.random.default_rng(seed)
    values = random.normal(size=(7, 9, 12))
    values[random.random(values.shape) < 0.1] = np.nan
    data = make_dataset(values, lats=np.arange(-80, 81, 20), lons=np.arange(0, 360, 30))
    made = Regrid(to="15")(data)["tas"]
    whole, parts = made.values(), made.values(Engine(memory=1 << 20, workers=workers))
    np.testing.assert_array_equal(whole, parts)
    region = (slice(2, 5), slice(3, 8), slice(10, 19))
    np.testing.assert_allclose(made.data.read(region), whole[region], rtol=1e-12)


def test_distances_on_the_sphere_are_those_of_the_tree(rng):
    """Against the haversine formula, to 9 digits."""
    north, east = rng.uniform(-90, 90, 300), rng.uniform(-180, 180, 300)
    cells, apart = nearest(
        north, east, np.array([61.0, -89.9]), np.array([9.0, 700.0]), count=3
    )
    for place, found, far in zip(
        ((61.0, 9.0), (-89.9, 700.0)), cells, apart, strict=True
    ):
        all_of_them = great_circle(north, east, *place)
        np.testing.assert_array_equal(found, np.argsort(all_of_them)[:3])
        np.testing.assert_allclose(far, np.sort(all_of_them)[:3], rtol=1e-9)


@pytest.mark.parametrize("order", [1, 2])
def test_regridding_does_not_depend_on_the_direction_of_the_axes(order, rng):
    lats, lons = np.arange(-87.5, 90, 5), np.arange(2.5, 360, 5)
    values = rng.normal(size=(1, lats.size, lons.size))
    data = make_dataset(values, lats=lats, lons=lons)
    turned = make_dataset(values[:, ::-1, ::-1], lats=lats[::-1], lons=lons[::-1])
    first, second = (one.regrid(to=3, order=order) for one in (data, turned))
    rows = np.argsort(second["lat"].values())
    columns = np.argsort(second["lon"].values() % 360)
    np.testing.assert_allclose(
        second["tas"].values()[:, rows][:, :, columns],
        first["tas"].values(),
        rtol=1e-9,
        atol=1e-12,
    )
