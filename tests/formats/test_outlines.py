"""One outline, handed out in every format and system, is one area."""

import json
import sqlite3
import struct

import numpy as np
import pyproj
import pytest
import shapefile
import shapely

from rhodolite.errors import DataError
from rhodolite.regions.outlines import find_outlines

OUTER = [(8.0, 60.0), (10.0, 60.0), (10.0, 62.0), (8.0, 62.0), (8.0, 60.0)]
HOLE = [(8.5, 60.5), (8.5, 61.0), (9.0, 61.0), (9.0, 60.5), (8.5, 60.5)]
NAME = "Ålfjord"
AREA = shapely.Polygon(OUTER, [HOLE])
SYSTEM = 25832
TO_PLANE = pyproj.Transformer.from_crs(4326, SYSTEM, always_xy=True)
PLANE = shapely.transform(AREA, TO_PLANE.transform, interleaved=False)


def geojson(shape, **more):
    feature = {"type": "Feature", "properties": {"name": NAME, "rank": 3}}
    feature["geometry"] = shapely.geometry.mapping(shape)
    return json.dumps({"type": "FeatureCollection", "features": [feature], **more})


def named_system(name):
    return {"crs": {"type": "name", "properties": {"name": name}}}


def kml():
    def ring(places):
        text = " ".join(f"{x},{y},0" for x, y in places)
        return f"<LinearRing><coordinates>{text}</coordinates></LinearRing>"

    return f"""<?xml version="1.0" encoding="UTF-8"?>
<kml xmlns="http://www.opengis.net/kml/2.2"><Document><Placemark><name>{NAME}</name>
<ExtendedData><Data name="rank"><value>3</value></Data></ExtendedData><Polygon>
<outerBoundaryIs>{ring(OUTER)}</outerBoundaryIs><innerBoundaryIs>{ring(HOLE)}</innerBoundaryIs>
</Polygon></Placemark></Document></kml>"""


def topojson(quantised):
    """The outer ring in two arcs, of which one runs backwards."""
    arcs = [OUTER[:3], OUTER[2:][::-1], HOLE]
    content = {"type": "Topology"}
    if quantised:
        content["transform"] = {"scale": [0.5, 0.5], "translate": [8, 60]}
        whole = [(np.array(arc) - (8, 60)) / 0.5 for arc in arcs]
        arcs = [np.diff(arc, axis=0, prepend=0).astype(int).tolist() for arc in whole]
    geometry = {"type": "Polygon", "arcs": [[0, ~1], [2]]}
    geometry["properties"] = {"name": NAME, "rank": 3}
    content["objects"] = {
        "areas": {"type": "GeometryCollection", "geometries": [geometry]}
    }
    return json.dumps({**content, "arcs": arcs})


def write_geopackage(path, shape, system, layers=("areas",)):
    """Tables of OGC 12-128, with the binary of a shape after a header with its extent."""
    with sqlite3.connect(path) as database:
        database.executescript(
            "CREATE TABLE gpkg_contents (table_name, data_type, srs_id);"
            "CREATE TABLE gpkg_geometry_columns (table_name, column_name, srs_id);"
            "CREATE TABLE gpkg_spatial_ref_sys (srs_id, organization, "
            "organization_coordsys_id, definition);"
        )
        database.execute(
            "INSERT INTO gpkg_spatial_ref_sys VALUES (?, 'EPSG', ?, '')",
            (system, system),
        )
        for layer in layers:
            database.execute(
                "INSERT INTO gpkg_contents VALUES (?, 'features', ?)", (layer, system)
            )
            database.execute(
                "INSERT INTO gpkg_geometry_columns VALUES (?, 'geom', ?)",
                (layer, system),
            )
            database.execute(
                f"CREATE TABLE {layer} (fid INTEGER PRIMARY KEY, geom, name, rank)"
            )
            west, south, east, north = shape.bounds
            header = b"GP\0\3" + struct.pack("<i4d", system, west, east, south, north)
            database.execute(
                f"INSERT INTO {layer} VALUES (1, ?, ?, 3)",
                (header + shapely.to_wkb(shape), NAME),
            )


def write_shapefile(path, shape, encoding="utf-8", projection=None):
    with shapefile.Writer(str(path), encoding=encoding) as writer:
        writer.field("name", "C")
        writer.field("rank", "N")
        writer.shape(shapely.geometry.mapping(shape))
        writer.record(NAME, 3)
    if projection:
        path.with_suffix(".prj").write_text(pyproj.CRS(projection).to_wkt("WKT1_ESRI"))


def write_all(folder):
    """Write the area in every format; of those that are projected the names begin with p."""
    (folder / "a.geojson").write_text(geojson(AREA))
    (folder / "old.json").write_text(
        geojson(AREA, **named_system("urn:ogc:def:crs:OGC:1.3:CRS84"))
    )
    (folder / "p.geojson").write_text(
        geojson(PLANE, **named_system(f"urn:ogc:def:crs:EPSG::{SYSTEM}"))
    )
    (folder / "a.kml").write_text(kml(), encoding="utf-8")
    (folder / "a.topojson").write_text(topojson(False))
    (folder / "q.topojson").write_text(topojson(True))
    (folder / "a.wkt").write_text(AREA.wkt + "\n")
    (folder / "p.wkt").write_text(f"SRID={SYSTEM};{PLANE.wkt}\n")
    write_geopackage(folder / "a.gpkg", AREA, 4326)
    write_geopackage(folder / "p.gpkg", PLANE, SYSTEM)
    write_shapefile(folder / "a.shp", AREA)
    write_shapefile(folder / "latin.shp", AREA, "latin-1")
    write_shapefile(folder / "dos.shp", AREA, "cp850")
    (folder / "dos.cpg").write_text("850")
    write_shapefile(folder / "p.shp", PLANE, projection=SYSTEM)


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("outlines")
    write_all(folder)
    return folder


@pytest.mark.parametrize(
    "name",
    ["a.geojson", "old.json", "a.kml", "a.topojson", "q.topojson", "a.wkt", "a.gpkg", "a.shp",
     "latin.shp", "dos.shp"],
)  # fmt: skip
def test_an_area_in_degrees_is_the_same_in_every_format(folder, name):
    (outline,) = find_outlines(str(folder / name))
    shape = shapely.union_all(list(outline.shapes))
    assert shapely.symmetric_difference(shape, AREA).area < 1e-12
    if not name.endswith(".wkt"):
        assert outline.name == NAME
        assert outline.about.keys() == {"rank"}
        assert float(outline.about["rank"]) == 3
        assert find_outlines(f"{folder / name}#ålfjord")[0].name == NAME


@pytest.mark.parametrize("name", ["p.geojson", "p.wkt", "p.gpkg", "p.shp"])
def test_an_area_of_a_projection_keeps_its_straight_edges(folder, name):
    """Back on the plane no edge is farther than a metre from where it was, of two hundred km."""
    (outline,) = find_outlines(str(folder / name))
    shape = shapely.union_all(list(outline.shapes))
    on_plane = shapely.transform(shape, TO_PLANE.transform, interleaved=False)
    fine = shapely.segmentize(on_plane, 500)
    assert shapely.hausdorff_distance(fine, shapely.segmentize(PLANE, 500)) < 1
    assert abs(fine.area / PLANE.area - 1) < 1e-5


def test_layers_are_chosen_and_what_is_wrong_is_said(tmp_path):
    write_geopackage(tmp_path / "two.gpkg", AREA, 4326, ("areas", "lakes"))
    with pytest.raises(DataError, match=r"several layers in it \(areas, lakes\)"):
        find_outlines(str(tmp_path / "two.gpkg"))
    assert find_outlines(f"{tmp_path / 'two.gpkg'}#lakes")[0].name == NAME
    for name, content, said in (
        ("a.kml", "<kml><Placemark>", "not valid KML"),
        ("b.kml", "<!DOCTYPE a><kml/>", "type of document"),
        ("c.kml", kml().replace("8.0,60.0,0", "x,60.0"), "no list of positions"),
        (
            "a.topojson",
            topojson(False).replace('"arcs": [[0', '"arcs": [[9'),
            "not valid TopoJSON",
        ),
        ("a.wkt", "POLYGON ((0 0, 1 1", "line 1"),
        ("p.geojson", geojson(PLANE, **named_system("EPSG:1")), "cannot be understood"),
        (
            "f.wkt",
            f"SRID={SYSTEM};POLYGON ((0 0, 5e9 0, 5e5 5e9, 0 0))",
            "no place on the globe",
        ),
        ("a.gpkg", "SQLite format 3\0" + "x" * 200, "damaged"),
    ):
        (tmp_path / name).write_text(content)
        with pytest.raises(DataError, match=said):
            find_outlines(str(tmp_path / name))
