"""GeoTIFF there and back, and as another program finds it: cells, times, marks."""

import itertools

import netCDF4
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import run_here, write_plain
from rhodolite.errors import DataError, UsageError

rasterio = pytest.importorskip("rasterio")
warp = pytest.importorskip("rasterio.warp")
MONTHS = ("2001-01", "2001-02", "2001-03")


def write_source(path, kind, northward, levels, poles, units="days since 2001-01-01"):
    """Write a NetCDF file of rain at three times, and return its values over (times, levels)."""
    values = np.random.default_rng(4).integers(0, 200, (3, levels, 5, 8)) / 2
    values[1, 0, 2, 3] = np.nan
    lat = np.linspace(-90, 90, 5) if poles else np.linspace(-40, 40, 5)
    lat = lat if northward else lat[::-1]
    with netCDF4.Dataset(path, "w") as file:
        for name, numbers, unit in (
            ("time", np.array([15.5, 45.0, 74.5]), units),
            ("plev", np.array([850.0, 500.0])[:levels], "hPa"),
            ("lat", lat, "degrees_north"),
            ("lon", np.arange(8) * 45.0 - 157.5, "degrees_east"),
        ):
            file.createDimension(name, numbers.size)
            axis = file.createVariable(name, "f8", (name,))
            axis.units = unit
            axis[:] = numbers
        file["time"].bounds = "time_bnds"
        file.createDimension("bnds", 2)
        bounds = file.createVariable("time_bnds", "f8", ("time", "bnds"))
        bounds[:] = [[0, 31], [31, 59], [59, 90]]
        fill = {"i2": -1, "f4": 1e20, "f8": np.nan}[kind]
        names = ("time", "plev", "lat", "lon")
        rain = file.createVariable("rain", kind, names, fill_value=fill)
        rain.setncatts(
            {"units": "mm", "long_name": "rain", "cell_methods": "time: sum"}
        )
        if kind == "i2":
            rain.setncatts({"scale_factor": 0.5, "add_offset": 0.0})
        rain[:] = np.ma.masked_invalid(values)
    return values


@given(
    st.sampled_from(["i2", "f4", "f8"]), st.booleans(), st.integers(1, 2), st.booleans()
)  # fmt: skip
def test_what_is_written_lies_where_it_was_and_comes_back(
    tmp_path_factory, kind, northward, levels, poles
):
    folder = tmp_path_factory.mktemp("tif")
    values = write_source(folder / "a.nc", kind, northward, levels, poles)
    source = rhodolite.read(folder / "a.nc")
    rhodolite.write(source, folder / "a.tif")
    with rasterio.open(folder / "a.tif") as file:
        assert file.count == 3 * levels
        assert file.dtypes[0] == ("float64" if kind == "f8" else "float32")
        lat, lon = (source[name].values() for name in ("lat", "lon"))
        bands = file.read().reshape(3, levels, 5, 8)
        for y, x in itertools.product(range(5), range(8)):
            row, column = file.index(lon[x], lat[y])
            assert np.array_equal(
                bands[:, :, row, column], values[:, :, y, x], equal_nan=True
            )
    back = rhodolite.read(folder / "a.tif")
    assert back["rain"].units == "mm"
    assert back["rain"].attributes["cell_methods"] == "time: sum"
    rows = slice(None, None, -1 if northward else 1)
    np.testing.assert_array_equal(back["lat"].values(), lat[rows])
    np.testing.assert_array_equal(back["lon"].values(), lon)
    np.testing.assert_array_equal(
        back["rain"].values(), source["rain"].values()[..., rows, :]
    )
    if levels == 2:
        assert back["plev"].values().tolist() == [850, 500]
        assert back["plev"].units == "hPa"
    ends = [
        netCDF4.num2date(data["time_bnds"].values(), data["time"].units)
        for data in (source, back)
    ]
    assert (ends[0] == ends[1]).all()


@pytest.mark.parametrize(
    "words",
    [
        ["climatology", "--min-years", "2"],
        ["aggregate", "--to", "season"],
        ["aggregate", "--to", "10days"],
    ],
)
def test_normals_and_periods_are_what_they_were(tmp_path, rng, words):
    days = write_plain(
        tmp_path / "a.nc", rng.normal(280, 5, (800, 3, 4)), lats=[1, 2, 3]
    )
    for kind in ("nc", "tif"):
        answer = run_here(words[0], days, *words[1:], "-o", tmp_path / f"b.{kind}")
        assert answer.code == 0, answer.err
    first, second = (rhodolite.read(tmp_path / f"b.{kind}") for kind in ("nc", "tif"))
    assert first.time.climatological == second.time.climatological
    ends = [
        netCDF4.num2date(np.sort(data.time.bounds, axis=1), data.time.units)
        for data in (first, second)
    ]
    assert (ends[0] == ends[1]).all()


def write_picture(path, bands, system="EPSG:32633", **keys):
    profile = {
        "driver": "GTiff", "count": len(bands), "height": 4, "width": 6, "dtype": bands.dtype,
        "crs": system, "transform": rasterio.transform.from_origin(5e5, 6e6, 1000, 2000),
    }  # fmt: skip
    with rasterio.open(path, "w", **{**profile, **keys}) as file:
        file.write(bands)
        return file.transform


def test_pictures_of_others_on_a_projection(tmp_path):
    """Packed bands of names of their own, beyond the marks; positions as of another library."""
    numbers = np.arange(48, dtype="i2").reshape(2, 4, 6)
    path = tmp_path / "fields.tif"
    write_picture(path, numbers, nodata=5)
    with rasterio.open(path, "r+") as file:
        file.scales, file.offsets = (0.1, 1.0), (20.0, 0.0)
        file.set_band_description(1, "warmth")
        file.set_band_description(2, "height of land")
        file.set_band_unit(1, "degC")
    data = rhodolite.read(path)
    assert [field.name for field in data.fields] == ["warmth", "height_of_land"]
    expected = np.where(
        numbers == 5, np.nan, numbers * np.array([0.1, 1])[:, None, None]
    )
    np.testing.assert_allclose(data["warmth"].values(), expected[0] + 20, rtol=1e-15)
    assert data["warmth"].units == "degC"
    assert data["height_of_land"].values().dtype == np.int16
    assert data["x"].values()[0] == 500500
    assert data["y"].values().tolist() == [5999000, 5997000, 5995000, 5993000]
    lon, lat = warp.transform("EPSG:32633", "EPSG:4326", [500500], [5999000])
    np.testing.assert_allclose(data["lat"].values()[0, 0], lat[0], atol=1e-9)
    np.testing.assert_allclose(data["lon"].values()[0, 0], lon[0], atol=1e-9)
    run_here("subset", path, "--variable", "warmth", "-o", tmp_path / "w.tif")
    with rasterio.open(tmp_path / "w.tif") as file:
        assert file.crs.to_dict()["proj"] in ("utm", "tmerc")
        assert file.transform == rasterio.transform.from_origin(5e5, 6e6, 1000, 2000)
        np.testing.assert_allclose(file.read(1), expected[0] + 20, rtol=1e-6)


def test_bands_and_files_are_times_where_their_names_are_dates(tmp_path):
    values = np.random.default_rng(5).random((3, 4, 6)).astype("f4")
    degrees = {
        "crs": "EPSG:4326",
        "transform": rasterio.transform.from_origin(0, 40, 2, 1),
    }
    write_picture(tmp_path / "rain.tif", values, **degrees)
    with rasterio.open(tmp_path / "rain.tif", "r+") as file:
        for band, month in enumerate(MONTHS, start=1):
            file.set_band_description(band, month)
    for month, band in zip(MONTHS, values, strict=True):
        name = f"rain_{month.replace('-', '')}.tif"
        write_picture(tmp_path / name, band[None], **degrees)
    write_picture(tmp_path / "other.tif", values, **degrees)
    with rasterio.open(tmp_path / "other.tif", "r+") as file:
        file.update_tags(**{"time#units": "days since 2001-01-01", "rain#units": "mm"})
        for band, day in enumerate((15.5, 45, 74.5), start=1):
            file.update_tags(band, NETCDF_DIM_time=str(day), NETCDF_VARNAME="rain")
    for inputs, ends in (
        (tmp_path / "rain.tif", True),
        (tmp_path / "rain_2001*.tif", True),
        (tmp_path / "other.tif", False),
    ):
        data = rhodolite.read(str(inputs))
        assert [field.name for field in data.fields] == ["rain"]
        np.testing.assert_array_equal(data["rain"].values(), values)
        assert [str(date)[:7] for date in data.time.dates] == list(MONTHS)
        assert (data.time.bounds is not None) == ends
    assert data["rain"].units == "mm"


def test_no_band_is_lost_where_two_name_one_time(tmp_path):
    values = np.random.default_rng(5).random((3, 4, 6)).astype("f4")
    write_picture(tmp_path / "t.tif", values)
    with rasterio.open(tmp_path / "t.tif", "r+") as file:
        for band, day in enumerate((1, 1, 2), start=1):
            file.update_tags(band, NETCDF_DIM_time=str(day))
    data = rhodolite.read(tmp_path / "t.tif")
    assert data["t"].dimensions == ("band", "y", "x")
    np.testing.assert_array_equal(data["t"].values(), values)


def test_cells_that_a_picture_masks_are_missing(tmp_path):
    values = np.arange(24, dtype="u1").reshape(1, 4, 6)
    write_picture(tmp_path / "m.tif", values)
    with rasterio.open(tmp_path / "m.tif", "r+") as file:
        file.write_mask(values[0] > 3)
    np.testing.assert_array_equal(
        rhodolite.read(tmp_path / "m.tif")["m"].values(),
        np.where(values[0] > 3, values[0].astype(float), np.nan),
    )


def test_overviews_are_means_or_for_classes_what_is_there(tmp_path):
    with netCDF4.Dataset(tmp_path / "c.nc", "w") as file:
        for name, ends, units in (
            ("lat", 60, "degrees_north"),
            ("lon", 120, "degrees_east"),
        ):
            file.createDimension(name, 1200)
            axis = file.createVariable(name, "f8", (name,))
            axis.units = units
            axis[:] = np.linspace(-ends, ends, 1200)
        cover = file.createVariable("cover", "i1", ("lat", "lon"))
        cover.setncatts(
            {"flag_values": np.array([1, 9], "i1"), "flag_meanings": "sea land"}
        )
        cover[:] = np.where(np.random.default_rng(6).random((1200, 1200)) > 0.5, 9, 1)
        warmth = file.createVariable("warmth", "f4", ("lat", "lon"))
        warmth[:] = cover[:]
    for name, classes in (("cover", True), ("warmth", False)):
        picture = tmp_path / f"{name}.tif"
        answer = run_here(
            "subset", tmp_path / "c.nc", "--variable", name, "-o", picture
        )
        assert answer.code == 0, answer.err
        with rasterio.open(picture) as file:
            assert file.overviews(1) == [2, 4]
            assert file.tags(ns="IMAGE_STRUCTURE")["LAYOUT"] == "COG"
            half = file.read(1, out_shape=(600, 600))
            whole = file.read(1)
        quarters = whole.reshape(600, 2, 600, 2).mean(axis=(1, 3))
        if classes:
            assert set(np.unique(half)) == {1, 9}
        else:
            np.testing.assert_allclose(half, quarters)


def test_what_no_picture_holds_and_what_is_none_is_said(tmp_path):
    write_source(tmp_path / "a.nc", "f4", True, 1, False)
    source = rhodolite.read(tmp_path / "a.nc")
    both = source.calc(formula="rain * 2", name="more", keep=True)
    with pytest.raises(UsageError, match=r"\{variable\}"):
        rhodolite.write(both, tmp_path / "b.tif")
    values = np.ones((1, 4, 6), "f4")
    turned = rasterio.transform.Affine(1, 0.5, 0, 0.5, -1, 0)
    for keys, reason in (
        ({"transform": turned}, "do not run along the axes"),
        ({"system": "EPSG:2263"}, "counts in"),
    ):
        write_picture(tmp_path / "t.tif", values, **keys)
        with pytest.raises(DataError, match=reason):
            rhodolite.read(tmp_path / "t.tif")
    content = (tmp_path / "t.tif").read_bytes()
    (tmp_path / "d.tif").write_bytes(content[:20])
    with pytest.raises(DataError, match="no whole GeoTIFF"):
        rhodolite.read(tmp_path / "d.tif")
