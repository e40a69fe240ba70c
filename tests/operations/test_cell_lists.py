"""Cells of any shape in a list: as the grid that the same cells make, and with integrals kept."""

import shutil

import netCDF4
import numpy as np
import pandas
import pytest
import shapely
from scipy.spatial import ConvexHull

import rhodolite
from conftest import run_here, write_plain
from rhodolite.drawing.parts.map_geometry import MapGeometry
from rhodolite.errors import DataError
from rhodolite.kernels.triangles import linear_in_triangles
from rhodolite.model.space.cell_lists import as_one_row

LATS, LONS = np.arange(-85.0, 90, 10), np.arange(5.0, 360, 10)


def write_list(path, values, lat, lon, corners):
    """Write values over (time, cell), with the corners of the cells."""
    with netCDF4.Dataset(path, "w") as file:
        file.createDimension("time", len(values))
        file.createDimension("cell", lat.size)
        file.createDimension("corner", corners[0].shape[1])
        time = file.createVariable("time", "f8", ("time",))
        time.units = "days since 2000-01-01"
        time[:] = np.arange(len(values))
        for name, units, middles, bounds in (
            ("lat", "degrees_north", lat, corners[0]),
            ("lon", "degrees_east", lon, corners[1]),
        ):
            axis = file.createVariable(name, "f8", ("cell",))
            axis.setncatts({"units": units, "bounds": f"{name}_vertices"})
            axis[:] = middles
            vertices = file.createVariable(f"{name}_vertices", "f8", ("cell", "corner"))
            vertices[:] = np.ma.masked_invalid(bounds)
        field = file.createVariable("tas", "f8", ("time", "cell"))
        field.setncatts({"units": "K", "coordinates": "lat lon"})
        field[:] = values
    return path


@pytest.fixture
def both(tmp_path, rng):
    """The same values on a grid, and on a list of its cells in another order."""
    values = rng.normal(280, 10, (3, LATS.size, LONS.size))
    values[:, 3, 4] = np.nan
    grid = write_plain(tmp_path / "grid.nc", values, lats=LATS, lons=LONS, kind="f8")
    lat, lon = (part.ravel() for part in np.meshgrid(LATS, LONS, indexing="ij"))
    corners = (
        lat[:, None] + np.array([-5, -5, 5, 5]),
        lon[:, None] + np.array([-5, 5, 5, -5]),
    )
    order = rng.permutation(lat.size)
    cells = write_list(
        tmp_path / "cells.nc", values.reshape(3, -1)[:, order], lat[order], lon[order],
        tuple(part[order] for part in corners),
    )  # fmt: skip
    return grid, cells


@pytest.mark.parametrize(
    "words",
    [
        ["summarise", "--over", "area"],
        ["summarise", "--over", "area", "--statistic", "max"],
        ["summarise", "--region", "Norway,Brazil,sea"],
        ["summarise", "--latitude-bands", "30"],
        ["regrid", "--to", "15"],
        ["regrid", "--to", "3", "--method", "nearest"],
        ["subset", "--region", "Norway,Brazil", "then", "summarise"],
        ["subset", "--region", "Brazil", "then", "regrid", "--to", "15", "then"]
        + ["summarise", "--statistic", "max"],
        ["subset", "--lat", "-20..40", "--lon", "300..20", "then", "summarise"],
    ],
)
def test_a_list_of_the_cells_of_a_grid_is_that_grid(tmp_path, both, words):
    results = []
    for path in both:
        out = tmp_path / f"out_{path.name}"
        answer = run_here(words[0], path, *words[1:], "-o", out)
        assert answer.code == 0, answer.err
        results.append(rhodolite.read(out))
    first, second = results
    assert first["tas"].dimensions == second["tas"].dimensions
    # Outlines are cut by cells of any form in a plane that keeps areas, after few more corners.
    close = 1e-6 if "--region" in words else 1e-10
    np.testing.assert_allclose(
        second["tas"].values(), first["tas"].values(), rtol=close, equal_nan=True
    )


@pytest.mark.parametrize(
    "words",
    [
        ["--points", "sites.csv"],
        ["--points", "sites.csv", "--search", "1"],
        ["--points", "sites.csv", "--method", "bilinear"],
        ["--lat", "-20..20", "--lon", "300..20"],
    ],
)
def test_sites_of_a_list_are_those_of_the_grid(tmp_path, both, words):
    """Opal lies on a cell without data."""
    table = "name,lat,lon\nRuby,61,9\nJade,-33.5,301\nOpal,-54,47\n"
    (tmp_path / "sites.csv").write_text(table)
    tables = []
    for path in both:
        out = f"{path.stem}.csv"
        answer = run_here("extract", path.name, *words, "-o", out, folder=tmp_path)
        assert answer.code == 0, answer.err
        rows = pandas.read_csv(tmp_path / out).sort_values(["name", "time"])
        tables.append(rows.reset_index(drop=True))
    if "bilinear" in words:  # between three centres, and not four
        tables = [table.drop(columns="tas [K]") for table in tables]
    elif "sites.csv" in words:
        assert ("--search" in words) == tables[0]["tas [K]"].notna().all()
    pandas.testing.assert_frame_equal(*tables, check_like=True)


def sphere(count=600):
    """Points spread over a sphere, the triangles between them, and these as corners."""
    at = np.arange(count) + 0.5
    z, east = 1 - 2 * at / count, np.pi * (1 + 5**0.5) * at
    flat = np.sqrt(1 - z**2)
    points = np.stack([flat * np.cos(east), flat * np.sin(east), z], axis=1)
    triangles = ConvexHull(points).simplices
    sides = points[triangles]
    outward = np.einsum("ij,ij->i", np.cross(sides[:, 0], sides[:, 1]), sides[:, 2]) > 0
    triangles[~outward] = triangles[~outward][:, ::-1]
    lat = np.degrees(np.arcsin(points[:, 2]))
    lon = np.degrees(np.arctan2(points[:, 1], points[:, 0]))
    return lat, lon, triangles


def unit_vectors(lat, lon):
    north, east = np.radians(lat), np.radians(lon)
    flat = np.cos(north)
    return np.stack([flat * np.cos(east), flat * np.sin(east), np.sin(north)], axis=-1)


@pytest.mark.parametrize("method", ["nearest", "bilinear"])
def test_places_at_the_corners_of_cells_have_the_value_of_one_beside_them(both, method):
    for path in both:
        data = rhodolite.read(path).subset(time="2000-01-01")
        warm = data.calc(formula="where(missing(tas), 300[K], tas)", name="tas")
        found = warm.regrid(to="20", method=method)["tas"].values()
        assert np.isfinite(found).all()


@pytest.mark.parametrize("cap", [180.0, 35.0])
def test_values_between_centres_are_linear_in_the_triangle_around(cap):
    """Each triangle of SciPy's hull tried by itself; linear functions of space are exact on its
    plane. Beyond the triangles of a part of the sphere there are none."""
    lat, lon, _ = sphere(300)
    near = 90 - lat < cap
    lat, lon = lat[near], lon[near]
    wanted = np.meshgrid(np.arange(-87.5, 90, 7), np.arange(1.5, 360, 11))
    north, east = (part.ravel() for part in wanted)
    weights = linear_in_triangles(lat, lon, north, east).toarray()
    points, places = unit_vectors(lat, lon), unit_vectors(north, east)
    hull = ConvexHull(points)
    # A face that is seen from the middle of the sphere closes the hull of a part of it.
    corners = points[hull.simplices[hull.equations[:, 3] < 0]]
    for place, row in zip(places, weights, strict=True):
        sides = np.tile(place, (len(corners), 1))[..., None]
        shares = np.linalg.solve(corners.transpose(0, 2, 1), sides)[..., 0]
        encloses = (shares > -1e-9).all(axis=1)
        assert encloses.any() == (row.sum() > 0)
        if encloses.any():
            assert row.sum() == pytest.approx(1, abs=1e-12)
            expected = place / shares[encloses][0].sum()
            np.testing.assert_allclose(row @ points, expected, atol=1e-12)


def test_a_list_of_cells_is_a_grid_to_regrid_to(tmp_path):
    """There and back: means are kept, and triangles of a smooth field come back nearly."""
    values = write_triangles(tmp_path / "cells.nc")
    for method, close in (("conservative", 1.0), ("bilinear", 0.1)):
        for words in (
            f"regrid cells.nc --to 3 --method {method} -o grid.nc",
            f"regrid grid.nc --like cells.nc --method {method} --save-weights w.nc -o back.nc",
            "regrid grid.nc --weights w.nc -o again.nc",
        ):
            answer = run_here(*words.split(), "--overwrite", folder=tmp_path)
            assert answer.code == 0, answer.err
        back = rhodolite.read(tmp_path / "back.nc")
        assert back["tas"].dimensions == ("time", "cell")
        np.testing.assert_allclose(back["tas"].values()[0], values, atol=close)
        again = rhodolite.read(tmp_path / "again.nc")["tas"].values()
        np.testing.assert_allclose(again, back["tas"].values(), rtol=1e-14)
        means = [
            rhodolite.read(tmp_path / name).summarise(over="area")["tas"].values()[0]
            for name in ("grid.nc", "back.nc")
        ]
        kept = 1e-7 if method == "conservative" else 1e-3
        assert means[0] == pytest.approx(means[1], rel=kept)


def write_triangles(path, count=600):
    """Write a smooth field on the triangles between points, and return its values."""
    lat, lon, triangles = sphere(count)
    middles = unit_vectors(lat, lon)[triangles].sum(axis=1)
    middles /= np.linalg.norm(middles, axis=1, keepdims=True)
    values = 280 + 10 * middles[:, 2] + 5 * middles[:, 0]
    centre = (
        np.degrees(np.arcsin(middles[:, 2])),
        np.degrees(np.arctan2(middles[:, 1], middles[:, 0])),
    )
    write_list(path, values[None], *centre, (lat[triangles], lon[triangles]))
    return values


def test_a_map_shows_every_cell_and_leaves_no_place_empty(tmp_path):
    """The cell around a pole reaches along all of the map's edge."""
    write_triangles(tmp_path / "cells.nc", 200)
    geometry = MapGeometry.of(as_one_row(rhodolite.read(tmp_path / "cells.nc")))
    frame = shapely.box(geometry.west, -90, geometry.east, 90)
    parts = [
        shapely.Polygon(np.stack([x, y], axis=1))
        for _, (east, north) in geometry.corners
        for x, y in zip(east, north, strict=True)
    ]
    assert geometry.east - geometry.west == 360
    shown = shapely.area(shapely.intersection(parts, frame))
    assert shown.sum() == pytest.approx(360 * 180, rel=1e-9)
    together = shapely.union_all(parts).intersection(frame)
    assert together.area == pytest.approx(360 * 180, rel=1e-9)


def triangle_areas(lat, lon, triangles):
    """The excess of each triangle (L'Huilier, by the tangent form of van Oosterom and Strackee)."""
    north, east = np.radians(lat), np.radians(lon)
    x, y = np.cos(north) * np.cos(east), np.cos(north) * np.sin(east)
    at = np.stack([x, y, np.sin(north)], axis=1)
    a, b, c = (at[triangles[:, n]] for n in range(3))
    dots = [np.einsum("ij,ij->i", *pair) for pair in ((a, b), (b, c), (c, a))]
    triple = np.einsum("ij,ij->i", np.cross(a, b), c)
    return 2 * np.arctan2(triple, 1 + sum(dots))


def test_means_and_integrals_over_triangles_of_a_mesh(tmp_path, rng):
    """A mesh of nodes and faces that counts from one, with a pair of triangles as one square."""
    lat, lon, triangles = sphere()
    values = rng.normal(280, 10, len(triangles))
    areas = triangle_areas(lat, lon, triangles)
    assert areas.sum() == pytest.approx(4 * np.pi, rel=1e-12)
    faces = np.full((len(triangles), 4), -1)
    faces[:, :3] = triangles + 1
    path = tmp_path / "mesh.nc"
    with netCDF4.Dataset(path, "w") as file:
        for name, n in (("node", lat.size), ("face", len(faces)), ("most", 4)):
            file.createDimension(name, n)
        for name, units, numbers in (
            ("node_lat", "degrees_north", lat), ("node_lon", "degrees_east", lon),
        ):  # fmt: skip
            node = file.createVariable(name, "f8", ("node",))
            node.units = units
            node[:] = numbers
        mesh = file.createVariable("mesh", "i4", ())
        mesh.setncatts({
            "cf_role": "mesh_topology", "topology_dimension": 2,
            "node_coordinates": "node_lon node_lat", "face_node_connectivity": "faces",
        })  # fmt: skip
        connected = file.createVariable("faces", "i4", ("face", "most"), fill_value=-1)
        connected.start_index = 1
        connected[:] = faces
        field = file.createVariable("tas", "f8", ("face",))
        field.setncatts({"units": "K", "mesh": "mesh", "location": "face"})
        field[:] = values
    data = rhodolite.read(path)
    mean = float(data.summarise(over="area")["tas"].values())
    assert mean == pytest.approx((values * areas).sum() / areas.sum(), rel=1e-10)
    data.write(tmp_path / "copy.nc")
    copy = rhodolite.read(tmp_path / "copy.nc").summarise()["tas"].values()
    assert float(copy) == pytest.approx(mean, rel=1e-12)
    grid = data.regrid(to="5")
    again = float(grid.summarise(over="area")["tas"].values())
    assert again == pytest.approx(mean, rel=1e-9)
    path = shutil.copy(path, tmp_path / "wrong.nc")
    with netCDF4.Dataset(path, "a") as file:
        file["faces"].start_index = 0
    with pytest.raises(DataError, match="start_index may be wrong"):
        rhodolite.read(path)
