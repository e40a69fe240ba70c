"""Names of variables in attributes, in each form in which people write them."""

from __future__ import annotations

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import run_here
from rhodolite.errors import RhodoliteWarning

PLAIN = {"grid_mapping": "crs", "coordinates": "lat lon", "cell_measures": "area: size"}
FORMS = {
    "plain": {},
    "with the axes of its mapping": {"grid_mapping": "crs: x y"},
    "without blanks": {"grid_mapping": "crs:x y", "cell_measures": "area:size"},
    "with commas": {"coordinates": "lat, lon"},
    "with two mappings": {"grid_mapping": "crs: x y other: lat lon"},
}


def write_plane(path, **named):
    """A field on a plane of 3 x 4 cells of unlike areas, its places and the areas."""
    y, x = np.meshgrid(np.arange(3) * 1e5, np.arange(4) * 1e5, indexing="ij")
    with netCDF4.Dataset(path, "w") as file:
        for name, size in (("time", 5), ("y", 3), ("x", 4)):
            file.createDimension(name, size)
        times = file.createVariable("time", "f8", ("time",))
        times.units = "days since 2001-01-01"
        times[:] = np.arange(5) + 0.5
        mapping = file.createVariable("crs", "i4", ())
        mapping.setncatts(
            {
                "grid_mapping_name": "lambert_azimuthal_equal_area",
                "longitude_of_projection_origin": 10.0,
                "latitude_of_projection_origin": 52.0,
                "semi_major_axis": 6371000.0,
                "inverse_flattening": 0.0,
            }
        )
        for name, values, units, quantity in (
            ("x", x[0], "m", "projection_x_coordinate"),
            ("y", y[:, 0], "m", "projection_y_coordinate"),
            ("lat", 52 + y / 111e3, "degrees_north", "latitude"),
            ("lon", 10 + x / 70e3, "degrees_east", "longitude"),
            ("size", 1e10 + x * 1e5, "m2", "cell_area"),
        ):
            axes = ("y", "x") if values.ndim == 2 else (name,)
            variable = file.createVariable(name, "f8", axes)
            variable.setncatts({"units": units, "standard_name": quantity})
            variable[:] = values
        tas = file.createVariable("tas", "f8", ("time", "y", "x"))
        tas.setncatts({"units": "K", **PLAIN, **named})
        tas[:] = 280 + np.arange(60.0).reshape(5, 3, 4)


@pytest.fixture(params=FORMS)
def planes(request, tmp_path):
    write_plane(tmp_path / "plain.nc")
    write_plane(tmp_path / "other.nc", **FORMS[request.param])
    return tmp_path


def read_back(folder, *words):
    run_here(*words, "-o", "out.nc", "--overwrite", folder=folder)
    with netCDF4.Dataset(folder / "out.nc") as file:
        about = {
            key: getattr(file["tas"], key)
            for key in PLAIN
            if key in file["tas"].ncattrs()
        }
        return sorted(file.variables), about, file["tas"][:].filled(np.nan)


@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
@pytest.mark.parametrize(
    "steps",
    [
        "subset --variable tas --time 2001-01-02",
        "summarise",
        "summarise --over time",
        "annotate --rename crs=plane --rename size=extent --rename lat=north",
        "annotate --remove crs",
        "regrid --to 0.5",
    ],
)
def test_every_form_of_names_leads_to_the_same_output(planes, steps):
    verb, *options = steps.split()
    expected = read_back(planes, verb, "plain.nc", *options)
    variables, about, values = read_back(planes, verb, "other.nc", *options)
    assert variables == expected[0]
    np.testing.assert_array_equal(values, expected[2])
    mapping = about.get("grid_mapping", "").split(":")[0] or None
    assert mapping == expected[1].get("grid_mapping")
    for key in ("coordinates", "cell_measures"):
        assert about.get(key) == expected[1].get(key)
    table = run_here("summarise", "other.nc", "-o", "mean.csv", folder=planes)
    assert table.code == 0, table.err


def test_a_name_that_is_not_there_is_said_and_left_out(tmp_path):
    write_plane(tmp_path / "a.nc", grid_mapping="crs: x y other: lat lon")
    with pytest.warns(RhodoliteWarning, match="refers to other as grid_mapping"):
        data = rhodolite.read(tmp_path / "a.nc")
    assert data["tas"].attributes["grid_mapping"] == "crs: x y"
    write_plane(tmp_path / "b.nc", coordinates="lat,lon", cell_measures="area:size")
    report = run_here("check", "b.nc", folder=tmp_path).out
    assert "'tas:coordinates=lat lon'" in report
    assert "'tas:cell_measures=area: size'" in report
