"""Results keep the places and areas of the cells that they were computed for, whatever the verb."""

from __future__ import annotations

import urllib.parse
import urllib.request

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import run_here

SPAN = 40
TRIANGLE = '{"type": "Polygon", "coordinates": [[[0, 50], [8, 50], [3, 58], [0, 50]]]}'


def write_grid(path, rng):
    """Write a grid with positions in two dimensions, a mapping, and areas of its own."""
    with netCDF4.Dataset(path, "w") as target:
        for name, size in (("time", SPAN), ("y", 3), ("x", 4)):
            target.createDimension(name, size)
        time = target.createVariable("time", "f8", ("time",))
        time.units, time[:] = "days since 2001-01-01", np.arange(SPAN) * 365.25 + 183
        lead = target.createVariable("lead", "f8", ("time",))
        lead.units, lead[:] = "hours", np.arange(SPAN)
        lat, lon = np.meshgrid(np.linspace(50, 56, 3), np.linspace(0, 9, 4))
        for name, values, units in (
            ("lat", lat.T, "degrees_north"),
            ("lon", lon.T, "degrees_east"),
        ):
            variable = target.createVariable(name, "f8", ("y", "x"))
            variable.units, variable[:] = units, values
        area = target.createVariable("cell_area", "f8", ("y", "x"))
        area.units, area.standard_name = "m2", "cell_area"
        area[:] = 1e9 * rng.uniform(1, 30, (3, 4))
        mapping = target.createVariable("crs", "i4", ())
        mapping.grid_mapping_name = "latitude_longitude"
        tas = target.createVariable("tas", "f8", ("time", "y", "x"))
        tas.units, tas.coordinates = "K", "lat lon lead"
        tas.grid_mapping, tas.cell_measures = "crs", "area: cell_area"
        tas[:] = 280 + rng.normal(0, 3, (SPAN, 3, 4))


OVER_TIME = [
    ("summarise", {"over": "time"}),
    ("trend", {"serial_correlation": "none"}),
    ("spectrum", {"method": "periodogram"}),
    ("composite", {"when": "highest 10 of s.csv:tas"}),
    ("correlate", {"with_": "s.csv"}),
    ("patterns", {"count": 1}),
    ("extremes", {"samples": 0}),
    ("climatology", {"cycle": "none"}),
    ("index", {"kind": "rank"}),
    ("compare", {"with_": "a.nc"}),
    ("calc", {"formula": "tas - 273.15[K]", "name": "x"}),
]


@pytest.mark.parametrize(("verb", "options"), OVER_TIME)
def test_what_is_computed_for_cells_says_where_they_are(
    tmp_path, rng, monkeypatch, verb, options
):
    monkeypatch.chdir(tmp_path)
    write_grid("a.nc", rng)
    data = rhodolite.read("a.nc")
    data.summarise().subset(variable="tas").write("s.csv")
    result = getattr(data, verb)(**options)
    on_cells = [v for v in result.fields if {"y", "x"} <= set(v.dimensions)]
    assert on_cells
    for variable in on_cells:
        about = variable.attributes
        assert about["cell_measures"] == "area: cell_area"
        assert about["grid_mapping"] == "crs"
        assert about["coordinates"].split()[:2] == ["lat", "lon"]
    result.write("out.nc")
    answer = run_here("check", "out.nc", folder=tmp_path)
    assert "Errors" not in answer.out, answer.out


@pytest.mark.parametrize("outline", [None, "triangle.geojson"])
@pytest.mark.parametrize(
    ("verb", "options", "field"),
    [
        ("summarise", {"over": "time"}, "tas"),
        ("trend", {}, "tas_trend"),
        ("climatology", {"cycle": "none"}, "tas"),
    ],
)
def test_area_means_commute_with_what_is_linear_in_time(
    tmp_path, rng, monkeypatch, verb, options, field, outline
):
    """By the areas of the file, and by the covered part of each cell of a region."""
    monkeypatch.chdir(tmp_path)
    (tmp_path / "triangle.geojson").write_text(TRIANGLE)
    write_grid("a.nc", rng)
    data = rhodolite.read("a.nc")
    if outline:
        data = data.subset(region=outline)
    first = getattr(data, verb)(**options).summarise()[field].values()
    second = getattr(data.summarise(), verb)(**options)[field].values()
    np.testing.assert_allclose(first, second, rtol=1e-9)


def test_correlations_at_sites_keep_their_names(tmp_path, rng, monkeypatch):
    monkeypatch.chdir(tmp_path)
    write_grid("a.nc", rng)
    (tmp_path / "sites.csv").write_text("name,lat,lon\nOlm,50,0\nUlt,56,9\n")
    data = rhodolite.read("a.nc")
    data.summarise().subset(variable="tas").write("s.csv")
    data.extract(points="sites.csv").correlate(with_="s.csv").write("c.csv")
    header, *rows = (tmp_path / "c.csv").read_text().splitlines()
    at = header.split(",").index("name")
    assert [row.split(",")[at] for row in rows] == ["Olm", "Ult"]


def test_check_finds_coordinates_along_other_dimensions(tmp_path, rng):
    write_grid(tmp_path / "a.nc", rng)
    with netCDF4.Dataset(tmp_path / "a.nc", "a") as target:
        series = target.createVariable("index", "f8", ("time",))
        series.units, series.coordinates = "1", "lat lon lead"
        series[:] = 1.0
    answer = run_here("check", "a.nc", folder=tmp_path)
    assert "index: names lat, lon as coordinates" in answer.out
    assert "annotate --set index:coordinates=lead" in answer.out.replace("'", "")


WIDE = '{"type": "Polygon", "coordinates": [[[-9, 40], [20, 40], [20, 66], [-9, 66], [-9, 40]]]}'


def means_by_every_way(data, outline):
    """Return the mean over a region: of what was cut out, at once, and cut out twice."""
    cut = data.subset(region=outline)
    yield cut.summarise()["tas"].values()
    yield data.summarise(region=outline)["tas"].values()
    yield cut.subset(region=outline).summarise()["tas"].values()
    yield cut.summarise(region=outline)["tas"].values()
    yield cut.summarise(region="wide.geojson")["tas"].values()
    yield cut.subset(region="wide.geojson").summarise()["tas"].values()


@pytest.mark.parametrize("units", ["m2", "km2"])
@pytest.mark.parametrize("outline", ["triangle.geojson", "wide.geojson"])
@pytest.mark.parametrize("with_areas", [True, False])
def test_a_region_is_weighed_by_the_areas_of_the_file(
    tmp_path, rng, monkeypatch, units, outline, with_areas
):
    """Also where it is cut out of what was cut out before; over all cells it is the area mean."""
    monkeypatch.chdir(tmp_path)
    (tmp_path / "triangle.geojson").write_text(TRIANGLE)
    (tmp_path / "wide.geojson").write_text(WIDE)
    write_grid("a.nc", rng)
    with netCDF4.Dataset("a.nc", "a") as target:
        target["cell_area"].units = units
        if not with_areas:
            target["tas"].delncattr("cell_measures")
    data = rhodolite.read("a.nc")
    first, *others = (means.ravel() for means in means_by_every_way(data, outline))
    for other in others:
        np.testing.assert_allclose(other, first, rtol=1e-9)
    if outline == "wide.geojson":
        whole = data.summarise()["tas"].values()
        np.testing.assert_allclose(first, whole, rtol=1e-9)
        # A sum is of the values themselves, whatever the areas.
        total = data.summarise(statistic="sum")["tas"].values()
        expected = data["tas"].values().sum(axis=(1, 2))
        np.testing.assert_allclose(total, expected, rtol=1e-9)
    cut = data.subset(region=outline)
    coarse = cut.regrid(to="2", min_coverage=0)
    assert coarse["covered_area"].units == "m2"
    expected = cut.summarise() if not with_areas else None
    if expected is not None:
        total = coarse.summarise()["tas"].values()
        np.testing.assert_allclose(total, expected["tas"].values(), rtol=1e-3)


def test_a_server_weighs_areas_as_summarise_does(tmp_path, rng, monkeypatch):
    pytest.importorskip("uvicorn")
    monkeypatch.chdir(tmp_path)
    (tmp_path / "triangle.geojson").write_text(TRIANGLE)
    write_grid("a.nc", rng)
    data = rhodolite.read("a.nc")
    expected = {
        "cube": data.subset(lat="52..57", lon="2..10").summarise(),
        "area": data.summarise(region="triangle.geojson"),
    }
    polygon = "POLYGON((0 50, 8 50, 3 58, 0 50))"
    asked = {"cube": {"bbox": "2,52,10,57"}, "area": {"coords": polygon}}
    with rhodolite.serve({"a": data}) as serving:
        for query, words in asked.items():
            words |= {"over": "area", "f": "CSV", "parameter-name": "tas"}
            address = f"{serving.address}/edr/collections/a/{query}"
            text = urllib.parse.urlencode(words)
            with urllib.request.urlopen(f"{address}?{text}") as answer:
                rows = answer.read().decode().splitlines()[1:]
            means = [float(row.rsplit(",", 1)[1]) for row in rows]
            whole = expected[query]["tas"].values().ravel()
            np.testing.assert_allclose(means, whole, rtol=1e-9)
