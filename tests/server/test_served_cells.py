"""Cells in a list, asked for as a grid of the same cells is."""

from __future__ import annotations

import io

import netCDF4
import numpy as np
import pytest
from PIL import Image

pytest.importorskip("starlette")
from test_serve import Running

import rhodolite
from conftest import write_plain
from rhodolite.server.edr import Collection
from rhodolite.server.gate import Gate
from rhodolite.server.layers import layers_of
from rhodolite.server.limits import Limits
from rhodolite.server.served import Served

LATS, LONS = np.arange(-85.0, 90, 10), np.arange(5.0, 360, 10)
AREA = "POLYGON((0%200,60%200,60%2060,0%2060,0%200))"
WMS = (
    "service=WMS&version=1.3.0&request=GetMap&layers=tas&styles=&crs=CRS:84"
    "&bbox=-178,-88,178,88&width=90&height=45&format=image/png"
)


def write_cells(path, values):
    """Write the cells of a grid one after another, with their corners."""
    lat, lon = (part.ravel() for part in np.meshgrid(LATS, LONS, indexing="ij"))
    with netCDF4.Dataset(path, "w") as file:
        for name, size in (("time", len(values)), ("cell", lat.size), ("corner", 4)):
            file.createDimension(name, size)
        time = file.createVariable("time", "f8", ("time",))
        time.units = "days since 2000-01-01"
        time[:] = np.arange(len(values))
        for name, units, middles, offsets in (
            ("lat", "degrees_north", lat, [-5, -5, 5, 5]),
            ("lon", "degrees_east", lon, [-5, 5, 5, -5]),
        ):
            axis = file.createVariable(name, "f8", ("cell",))
            axis.setncatts({"units": units, "bounds": f"{name}_vertices"})
            axis[:] = middles
            corners = file.createVariable(f"{name}_vertices", "f8", ("cell", "corner"))
            corners[:] = middles[:, None] + np.array(offsets)
        field = file.createVariable("tas", "f8", ("time", "cell"))
        field.setncatts({"units": "K", "coordinates": "lat lon"})
        field[:] = values.reshape(len(values), -1)


def write_mesh(path, values):
    """Write the cells of a grid as faces between nodes that are called lat and lon."""
    north, east = np.arange(-90.0, 91, 10), np.arange(0.0, 360, 10)
    lat, lon = (part.ravel() for part in np.meshgrid(north, east, indexing="ij"))
    numbers = np.arange(lat.size).reshape(north.size, east.size)
    following = np.roll(numbers, -1, axis=1)
    corners = [numbers[:-1], following[:-1], following[1:], numbers[1:]]
    with netCDF4.Dataset(path, "w") as file:
        sizes = {"time": len(values), "node": lat.size, "face": 648, "most": 4}
        for name, size in sizes.items():
            file.createDimension(name, size)
        time = file.createVariable("time", "f8", ("time",))
        time.units = "days since 2000-01-01"
        time[:] = np.arange(len(values))
        for name, units, places in (
            ("lat", "degrees_north", lat),
            ("lon", "degrees_east", lon),
        ):
            node = file.createVariable(name, "f8", ("node",))
            node.units = units
            node[:] = places
        mesh = file.createVariable("mesh", "i4", ())
        mesh.cf_role, mesh.topology_dimension = "mesh_topology", 2
        mesh.node_coordinates, mesh.face_node_connectivity = "lon lat", "faces"
        faces = file.createVariable("faces", "i4", ("face", "most"))
        faces[:] = np.stack([part.ravel() for part in corners], axis=1)
        field = file.createVariable("tas", "f8", ("time", "face"))
        field.setncatts({"units": "K", "mesh": "mesh", "location": "face"})
        field[:] = values.reshape(len(values), -1)


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    folder = tmp_path_factory.mktemp("cells")
    values = np.random.default_rng(0).normal(280, 10, (3, LATS.size, LONS.size))
    write_plain(folder / "grid.nc", values, lats=LATS, lons=LONS, kind="f8")
    write_cells(folder / "cells.nc", values)
    write_mesh(folder / "mesh.nc", values)
    running = Running(folder, "serve", "grid.nc", "cells.nc", "mesh.nc")
    yield running
    running.stop()


def body_of(server, question):
    status, _, body = server.get(question)
    assert status == 200, body
    return body


@pytest.mark.parametrize(
    "question", ["position?coords=POINT(12%2047)", f"area?coords={AREA}&over=area"]
)
def test_places_and_areas_have_the_values_of_the_grid(server, question):
    columns = []
    for name in ("grid", "cells", "mesh"):
        answer = body_of(server, f"/edr/collections/{name}/{question}&f=CSV")
        rows = answer.decode().splitlines()
        columns.append(np.array([row.split(",")[-1] for row in rows[1:]], dtype=float))
    assert columns[0].size == 3
    for column in columns[1:]:
        np.testing.assert_allclose(column, columns[0], rtol=1e-9)


def test_a_map_is_that_of_the_grid_and_a_file_holds_a_list(server, tmp_path):
    """Pixels away from the edges of cells, since those belong to the cell with the nearest centre,
    which is another near the poles."""
    pictures = [
        np.asarray(
            Image.open(io.BytesIO(body_of(server, f"/wms/{name}?{WMS}"))).convert("RGB")
        )
        for name in ("grid", "cells", "mesh")
    ]
    for picture in pictures[1:]:
        same = (pictures[0] == picture).all(axis=-1)
        assert same[8:-8].mean() > 0.9
    (tmp_path / "part.nc").write_bytes(
        body_of(server, "/edr/collections/cells/cube?bbox=0,0,40,40&f=NetCDF")
    )
    part = rhodolite.read(tmp_path / "part.nc")
    assert part["tas"].dimensions == ("time", "cell")
    assert part["tas"].shape == (3, 16)


def test_times_and_levels_of_any_order_have_an_extent():
    data = rhodolite.from_arrays(
        {"ta": np.arange(16.0).reshape(2, 2, 2, 2)},
        {
            "time": np.array(["2002-01-01", "2001-01-01"], "M8[D]"),
            "plev": [1000.0, 500.0],
            "lat": [10.0, 20.0],
            "lon": [0.0, 10.0],
        },
        units={"ta": "K", "plev": "hPa"},
    )
    served = Served("a", data, rhodolite.Engine(), Gate(Limits()))
    (layer,) = layers_of(served).values()
    assert [moment[:4] for moment in layer.moments] == ["2001", "2002"]
    extent = Collection(served).describe("")["extent"]
    ((begin, end),) = extent["temporal"]["interval"]
    assert (begin[:4], end[:4]) == ("2001", "2002")
    assert extent["vertical"]["interval"] == [["500", "1000"]]
    # The newest map is the last, as clients take it who name no time.
    newest = layer.read(((layer.time_dimension, 1), ("plev", 0)))
    np.testing.assert_array_equal(newest, [[0.0, 1.0], [2.0, 3.0]])
