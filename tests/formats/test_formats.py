"""Every format: what others wrote is understood, and what goes out and comes in again is the
same."""

from __future__ import annotations

import itertools
import json

import h5py
import netCDF4
import numpy as np
import pandas
import pytest
import scipy.io
import zarr
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite.arrays import InMemory
from rhodolite.checking import check
from rhodolite.errors import DataError, UsageError
from rhodolite.formats.layout import ChunkUse, chunk_shape
from rhodolite.formats.text.filename_pattern import FilePattern
from rhodolite.model.variable import Storage, Variable

VARIANTS = [
    ("a.nc", v)
    for v in (
        "netcdf4",
        "netcdf4-classic",
        "netcdf3-classic",
        "netcdf3-64bit",
        "netcdf3-64bit-data",
    )
]
VARIANTS += [("a.zarr", v) for v in ("zarr3", "zarr2")]
CALENDARS = [
    "standard",
    "proleptic_gregorian",
    "julian",
    "noleap",
    "all_leap",
    "360_day",
]
UNITS = [
    "days since 2000-01-01",
    "hours since 1800-01-01 00:00:00",
    "seconds since 1970-01-01T00:00:00",
]
texts = st.text(
    st.characters(codec="utf-8", exclude_categories=("Cc", "Cs")),
    min_size=1,
    max_size=12,
)
attributes = st.dictionaries(
    st.sampled_from(["comment", "references", "n", "note"]),
    texts
    | st.integers(-(2**31), 2**31 - 1).map(np.int32)
    | st.floats(-1024, 1024, width=32).map(np.float32)
    | st.lists(st.floats(-1e300, 1e300), min_size=2, max_size=4).map(np.array),
    max_size=3,
)
_number = itertools.count()


def stored_alike(mine, theirs, variant):
    """Whether an attribute came back: JSON has one kind of number, NetCDF keeps types."""
    if isinstance(mine, str) or variant.startswith("zarr"):
        return np.array_equal(mine, theirs)
    return (
        np.array_equal(mine, theirs)
        and np.asarray(mine).dtype == np.asarray(theirs).dtype
    )


@pytest.mark.slow
@settings(max_examples=40)
@given(st.data(), st.sampled_from(VARIANTS))
def test_any_dataset_out_and_in_again_is_the_same(tmp_path, data, variant):
    name, variant = variant
    shape = data.draw(
        st.tuples(st.integers(1, 4), st.integers(1, 9), st.integers(1, 40))
    )
    kinds = ["f4", "f8", "i2", "i4"] + (
        ["u1", "i8"] if variant in ("netcdf4", "netcdf3-64bit-data", "zarr3") else []
    )
    kind = data.draw(st.sampled_from(kinds))
    random = np.random.default_rng(data.draw(st.integers(0, 999)))
    values = (
        random.integers(0, 200, shape).astype(kind)
        if kind[0] in "iu"
        else random.normal(0, 1e3, shape).astype(kind)
    )
    if kind[0] == "f":
        values[random.random(shape) < 0.2] = np.nan
    calendar, units = (
        data.draw(st.sampled_from(CALENDARS)),
        data.draw(st.sampled_from(UNITS)),
    )
    times = np.cumsum(random.integers(1, 900, shape[0]))
    made = make_dataset(
        values,
        calendar=calendar,
        units=units,
        times=times,
        attributes=data.draw(attributes),
    )
    chunks = data.draw(st.none() | st.tuples(*(st.integers(1, n) for n in shape)))
    growing = frozenset(
        ["time"] if data.draw(st.booleans()) and name.endswith(".nc") else []
    )
    about = data.draw(attributes)
    words = InMemory(np.array([f"row {i} é" for i in range(shape[1])], object))
    label = Variable("label", ("lat",), words, {})
    variables = [made["tas"].replace(storage=Storage(chunks=chunks)), label]
    made = made.with_variables(
        [*list(made.variables.values())[:3], *variables],
        unlimited=growing,
        attributes=about,
    )
    path = tmp_path / f"{next(_number)}{name}"
    rhodolite.write(made, path, format=variant, workers=2, memory=1 << 20)
    again = rhodolite.read(path)
    assert again["tas"].data.dtype == np.dtype(kind)
    np.testing.assert_array_equal(again["tas"].values(), values)
    assert again["label"].values().tolist() == label.values().tolist()
    assert again.unlimited == growing
    assert again.time.dates.tolist() == made.time.dates.tolist()
    for mine, theirs in (
        (made["tas"].attributes, again["tas"].attributes),
        (about, again.attributes),
    ):
        for key, value in mine.items():
            assert stored_alike(value, theirs[key], variant), key
    assert not [finding for finding in check(again) if finding.severity == "error"]
    if chunks and values.nbytes > 1 << 16:
        assert again["tas"].storage.chunks == chunks


@pytest.mark.parametrize(("name", "variant"), VARIANTS)
def test_large_variables_stream_into_every_variant(tmp_path, rng, name, variant):
    values = rng.normal(size=(40, 60, 70)).astype("f4")
    rhodolite.write(
        make_dataset(values), tmp_path / name, format=variant, memory=1 << 20
    )
    np.testing.assert_array_equal(
        rhodolite.read(tmp_path / name)["tas"].values(), values
    )
    if variant.startswith("netcdf3"):
        with (
            scipy.io.netcdf_file(tmp_path / name, mmap=False)
            if variant != "netcdf3-64bit-data"
            else netCDF4.Dataset(tmp_path / name) as file
        ):
            np.testing.assert_array_equal(file.variables["tas"][:], values)
    elif name == "a.nc":
        with netCDF4.Dataset(tmp_path / name) as file:
            assert (
                file.data_model
                == {"netcdf4": "NETCDF4", "netcdf4-classic": "NETCDF4_CLASSIC"}[variant]
            )
    else:
        stored = zarr.open_group(tmp_path / name, mode="r")["tas"]
        np.testing.assert_array_equal(stored[:], values)
        assert stored.metadata.zarr_format == int(variant[-1])


def test_what_a_variant_cannot_hold_is_refused(tmp_path):
    far = make_dataset(np.full((2, 3, 4), 2**40))
    with pytest.raises(
        DataError, match=r"tas holds integers from 1099511627776 .* netcdf3-64bit-data"
    ):
        rhodolite.write(far, tmp_path / "a.nc", format="netcdf3-classic")
    rhodolite.write(far, tmp_path / "a.nc", format="netcdf3-64bit-data")
    assert list(tmp_path.iterdir()) == [tmp_path / "a.nc"]
    for settings_, message in (
        ({"format": "zarr2"}, "--format zarr2 is for files that end in .zarr"),
        ({"format": "netcdf5"}, "there is no 'netcdf5'. Did you mean netcdf4"),
        (
            {"format": "netcdf3-classic", "chunks": "map"},
            "--chunks is for NetCDF-4 and Zarr",
        ),
        ({"chunks": "cube"}, "--chunks: 'cube' is not offered"),
        ({"compression": "tiny"}, "--compression: 'tiny' is not offered"),
    ):
        with pytest.raises(UsageError, match=message):
            rhodolite.write(far, tmp_path / "b.nc", **settings_)


@pytest.mark.slow
def test_time_can_grow_where_that_is_asked_for(tmp_path, demo):
    words = ["subset", demo / "pressure_monthly.nc", "--level", "500hPa", "--unlimited"]
    for variant in ("netcdf4", "netcdf3-classic"):
        assert (
            run_here(*words, "--format", variant, "-o", tmp_path / f"{variant}.nc").code
            == 0
        )
        with netCDF4.Dataset(tmp_path / f"{variant}.nc", "a") as file:
            assert file.dimensions["time"].isunlimited()
            file["time"][24] = file["time"][23] + 744
            assert file["ta"].shape[0] == 25
    refused = run_here(*words, "-o", tmp_path / "a.zarr")
    assert (refused.code, "--unlimited is for NetCDF" in refused.err) == (2, True)


@given(
    st.sampled_from(list(ChunkUse)),
    st.tuples(st.integers(1, 9000), st.integers(1, 800), st.integers(1, 900)),
)
def test_chunks_are_good_for_what_they_are_meant_for(use, shape):
    made = make_dataset(np.broadcast_to(np.float32(0), shape))
    chunks = chunk_shape(made["tas"], 4, made, use)
    assert all(1 <= c <= n for c, n in zip(chunks, shape, strict=True))
    assert np.prod(chunks) * 4 <= 2 << 20 or chunks == (shape[0], 1, 1)
    count = [-(-n // c) for n, c in zip(shape, chunks, strict=True)]
    if use is ChunkUse.MAP:
        assert chunks[0] == 1
    elif use is ChunkUse.SERIES:
        assert count[0] == 1
    elif np.prod(shape) * 4 > 64 << 20 and min(shape) > 50:
        assert (
            1 / 4 < count[0] / (count[1] * count[2]) < 4
        )  # as many pieces of a map as of a series


@pytest.mark.parametrize("version", [2, 3])
def test_zarr_as_others_write_it(tmp_path, version):
    root = zarr.create_group(
        tmp_path / "a.zarr",
        zarr_format=version,
        attributes={"title": "Other", "list": [1, 2]},
    )
    inner = root.create_group("model")
    about = {"units": "K", "scale_factor": 0.5, "add_offset": 200.0, "_FillValue": -1}
    for name, dimensions, values, words in (
        ("lat", ("lat",), np.arange(3.0), {"units": "degrees_north"}),
        ("lon", ("lon",), np.arange(4.0), {"units": "degrees_east"}),
        ("tas", ("lat", "lon"), np.arange(-1, 11, dtype="i2").reshape(3, 4), about),
    ):
        named = {"dimension_names": dimensions} if version == 3 else {}
        words = (
            words if version == 3 else {**words, "_ARRAY_DIMENSIONS": list(dimensions)}
        )
        inner.create_array(
            name,
            data=values,
            chunks=tuple(max(1, n - 1) for n in values.shape),
            attributes=words,
            **named,
        )
    with pytest.raises(
        DataError, match=r"its arrays are in groups; name one of .*a\.zarr:/model"
    ):
        rhodolite.read(tmp_path / "a.zarr")
    for data in (
        rhodolite.read(f"{tmp_path}/a.zarr:/model"),
        rhodolite.read(tmp_path / "a.zarr", group="model"),
    ):
        expected = np.arange(-1, 11).reshape(3, 4) * 0.5 + 200
        expected[0, 0] = np.nan
        np.testing.assert_array_equal(data["tas"].values(), expected)
        assert data.attributes["title"] == "Other"
        assert rhodolite.Subset(lat="1..2")(data)["tas"].shape == (2, 4)
    with pytest.raises(DataError, match=r"no group 'modell'\. Did you mean model"):
        rhodolite.read(tmp_path / "a.zarr", group="modell")
    assert (
        "Zarr version"
        in run_here("inspect", "*.zarr", "--group", "model", folder=tmp_path).out
    )


@pytest.mark.slow
def test_a_store_is_replaced_only_when_asked_and_only_by_a_whole_one(tmp_path):
    out = tmp_path / "a.zarr"
    rhodolite.write(make_dataset(np.ones((2, 3, 4))), out)
    again = run_here("subset", out, "--lat", "0..1", "-o", tmp_path / "b.zarr")
    assert again.code == 0, again.err
    assert "b.zarr (" in again.err
    assert "files, " in again.err
    assert run_here("subset", out, "-o", tmp_path / "b.zarr").code == 4
    assert run_here("subset", out, "-o", out, "--overwrite").code == 4
    assert run_here("subset", out, "-o", tmp_path / "b.zarr", "--overwrite").code == 0
    assert rhodolite.read(tmp_path / "b.zarr").lengths["lat"] == 3
    (tmp_path / "c.zarr").mkdir()
    refused = run_here("subset", out, "-o", tmp_path / "c.zarr", "--overwrite")
    assert (refused.code, "this is a folder" in refused.err) == (4, True)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.zarr", "b.zarr", "c.zarr"]
    (out / "tas" / "zarr.json").write_text("{")
    assert run_here("inspect", out).code == 3


def test_hdf5_with_dimension_scales_and_without_netcdf(tmp_path):
    with h5py.File(tmp_path / "a.h5", "w") as file:
        for name, n, units in (("lat", 3, "degrees_north"), ("lon", 4, "degrees_east")):
            file[name] = np.arange(float(n))
            file[name].attrs["units"] = units
            file[name].make_scale(name)
        file.create_dataset(
            "tas",
            data=np.arange(12.0).reshape(3, 4),
            chunks=(2, 2),
            compression="gzip",
            shuffle=True,
        )
        for axis, name in enumerate(("lat", "lon")):
            file["tas"].dims[axis].attach_scale(file[name])
        file["tas"].attrs["units"] = "K"
    data = rhodolite.read(tmp_path / "a.h5")
    assert data.files[0].format == "HDF5"
    assert rhodolite.Subset(at="2N,3E")(data)["tas"].values().tolist() == [[11.0]]


def test_characters_are_text_and_text_goes_out_as_characters(tmp_path):
    with scipy.io.netcdf_file(tmp_path / "a.nc", "w") as file:
        for name, n in (("site", 2), ("strlen", 8)):
            file.createDimension(name, n)
        file.createVariable("name", "c", ("site", "strlen"))[:] = np.array(
            [list("Garnet  "), list("Ruby\0\0\0\0")], "c"
        )
        file.createVariable("height", "f4", ("site",))[:] = [1, 2]
    data = rhodolite.read(tmp_path / "a.nc")
    assert data["name"].values().tolist() == ["Garnet", "Ruby"]
    rhodolite.write(data, tmp_path / "b.nc", format="netcdf3-classic")
    with scipy.io.netcdf_file(tmp_path / "b.nc", mmap=False) as file:
        assert file.variables["name"][:].tobytes().startswith(b"Garnet")


def test_valid_ranges_and_packing_survive_where_numbers_do(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, n, units in (
            ("lat", 30, "degrees_north"),
            ("lon", 400, "degrees_east"),
        ):
            file.createDimension(name, n)
            file.createVariable(name, "f4", (name,)).units = units
            file[name][:] = np.arange(n) / 2
        for name, kind in (("plain", "f4"), ("packed", "i2")):
            made = file.createVariable(
                name, kind, ("lat", "lon"), fill_value=np.dtype(kind).type(-99)
            )
            made.set_auto_maskandscale(False)
            made.valid_range = np.array([0, 9000], kind)
            made.missing_value = np.dtype(kind).type(-99)
            if name == "packed":
                made.setncatts(
                    {"scale_factor": np.float32(0.5), "add_offset": np.float32(7)}
                )
            made[:] = np.arange(12000).reshape(30, 400)
    data = rhodolite.read(tmp_path / "a.nc")
    rhodolite.write(rhodolite.Convert(pack="keep")(data), tmp_path / "b.nc")
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        assert (
            file["plain"].valid_range.tolist()
            == file["packed"].valid_range.tolist()
            == [0, 9000]
        )
        assert (file["packed"].dtype, file["packed"].missing_value) == (np.int16, -99)
        assert (
            np.ma.count_masked(file["plain"][:])
            == np.ma.count_masked(file["packed"][:])
            == 2999
        )
    rhodolite.write(
        rhodolite.Convert(units="plain=1")(data) if data["plain"].units else data,
        tmp_path / "c.nc",
    )
    with netCDF4.Dataset(tmp_path / "c.nc") as file:
        assert (
            "valid_range" not in file["packed"].ncattrs()
        )  # the numbers are others now


@pytest.mark.slow
def test_a_table_says_its_units_and_is_a_grid_again(tmp_path, demo):
    words = (
        "--lat",
        "60N..64N",
        "--lon",
        "5E..12E",
        "--time",
        "2018-01..2018-03",
        "--level",
        "850hPa,500hPa",
    )
    assert (
        run_here(
            "subset", demo / "pressure_monthly.nc", *words, "-o", tmp_path / "a.csv"
        ).code
        == 0
    )
    frame = pandas.read_csv(tmp_path / "a.csv")
    assert list(frame.columns) == [
        "time",
        "plev [hPa]",
        "lat",
        "lon",
        "ta [K]",
        "ua [m s-1]",
        "va [m s-1]",
    ]
    assert frame["time"].iloc[0] == "2018-01"
    source = rhodolite.read(demo / "pressure_monthly.nc")
    expected = rhodolite.Subset(
        **{w[2:]: v for w, v in zip(words[::2], words[1::2], strict=True)}
    )(source)
    np.testing.assert_array_equal(
        frame["ua [m s-1]"].to_numpy("f4"), expected["ua"].values().reshape(-1)
    )
    back = rhodolite.read(tmp_path / "a.csv")
    assert (back["ta"].units, back["plev"].units) == ("K", "hPa")
    order = np.argsort(expected["plev"].values())
    np.testing.assert_array_equal(
        back["ta"].values().astype("f4"), expected["ta"].values()[:, order]
    )
    assert back.time.span == expected.time.span
    assert (
        run_here(
            "subset",
            demo / "pressure_monthly.nc",
            "--every",
            "time=12",
            "-o",
            tmp_path / "b.csv",
        ).code
        == 0
    )


@pytest.mark.parametrize(
    ("text", "sizes", "name", "first"),
    [
        (
            "time,lat,lon,rain "
            "[mm]\n2001-01,60,5,1\n2001-01,60,6,2\n2001-02,60,5,3\n2001-02,60,6,4\n",
            {"time": 2, "lat": 1, "lon": 2},
            "rain",
            1.0,
        ),
        (
            "date;latitude;longitude;rain\n20010101;60;5;1,5\n20010101;61;7;2\n",
            {"time": 1, "site": 2},
            "rain",
            1.5,
        ),
        (
            "station,lat,lon,2001,2002,2003\nRuby,60,5,1,2,NA\nOpal,61,7,4,5,6\n",
            {"time": 3, "site": 2},
            "table",
            1.0,
        ),
        (
            "# made up\ntime,Ruby,Opal\n2001-01-01,1,2\n2001-01-02,,4\n",
            {"time": 2},
            "Ruby",
            1.0,
        ),
        (
            "name\tlat\tlon\tdepth_of_lake\nRuby\t60\t5\t12\nOpal\t61\t7\t\n",
            {"site": 2},
            "depth_of_lake",
            12.0,
        ),
        (
            "time,site,flow\n2001-01-01T00:00,a,1\n2001-01-01T06:00,a,2\n2001-01-01T00:00,b,3\n",
            {"time": 2, "site": 2},
            "flow",
            1.0,
        ),
    ],
    ids=[
        "long, a grid",
        "long, sites",
        "a row a site",
        "a row a time",
        "sites alone",
        "times and names",
    ],
)
def test_tables_of_every_form(tmp_path, text, sizes, name, first):
    (tmp_path / "table.csv").write_text(text)
    data = rhodolite.read(tmp_path / "table.csv")
    assert {k: v for k, v in data.lengths.items() if k != "bnds"} == sizes
    assert data[name].values().reshape(-1)[0] == first
    assert not [finding for finding in check(data) if finding.severity == "error"]
    rhodolite.write(data, tmp_path / "a.nc")
    np.testing.assert_array_equal(
        rhodolite.read(tmp_path / "a.nc")[name].values(), data[name].values()
    )


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (
            "time,lat,lon,x\n2001-01,95,5,1\n",
            r"table\.csv, line 2: '95' is not a lat; .* are latitude and longitude exchanged",
        ),
        (
            "time,lat,lon,x\n2001-01,60,5,1\n2001-01,60,5,2\n",
            "lines 2 and 3 are of the same time and place",
        ),
        (
            "time,note\n31.13.2001,1\n",
            r"line 2: .31\.13\.2001. is not a date; write dates as 2001-12-31",
        ),
        ("a,b\n1,2\n", "a table needs a column of times .* Its columns are 'a', 'b'"),
        ("site,2001,2002\na,1,x\n", "line 2: 'x' in column '2002' is not a number"),
        ("time,note\n2001,\n", "no column of numbers"),
        ("time,x\n", "no row below it"),
        ("hello\n1\n", "this is not a table"),
    ],
)
def test_mistakes_in_tables_are_named_with_their_line(tmp_path, text, message):
    (tmp_path / "table.csv").write_text(text)
    with pytest.raises(DataError, match=message):
        rhodolite.read(tmp_path / "table.csv")


@pytest.mark.slow
def test_grids_of_text_one_a_month_and_back(tmp_path, demo):
    out, garnet = "tas_{year}-{month}.asc", demo / "garnet_monthly_1981-2020.nc"
    words = ("--variable", "tas", "--lat", "30S..30N", "--time", "2001-11..2002-02")
    assert run_here("subset", garnet, *words, "-o", out, folder=tmp_path).code == 0
    assert [p.name for p in sorted(tmp_path.glob("*.asc"))] == [
        f"tas_{m}.asc" for m in ("2001-11", "2001-12", "2002-01", "2002-02")
    ]
    data = rhodolite.read(tmp_path / "tas_2002-01.asc")
    source = rhodolite.Subset(variable="tas", lat="30S..30N", time="2002-01")(
        rhodolite.read(demo / "garnet_monthly_1981-2020.nc")
    )
    np.testing.assert_array_equal(
        data["tas_2002_01"].values().astype("f4"),
        source["tas"].values()[0].astype("f4"),
    )
    np.testing.assert_array_equal(data["lat"].values(), source["lat"].values())
    assert np.isnan(data["tas_2002_01"].values()).any()
    again = run_here("subset", garnet, *words, "-o", out, folder=tmp_path)
    assert (again.code, "tas_2001-11.asc: exists already" in again.err) == (4, True)
    one = run_here("subset", garnet, *words, "-o", "all.asc", folder=tmp_path)
    assert (one.code, "such as 'all_{year}{month}{day}.asc'" in one.err) == (2, True)
    assert len(list(tmp_path.glob("*.asc"))) == 4


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("ncols 2\nnrows x\n", "line 2: 'x' is not a number for nrows"),
        (
            "ncols 2\nnrows 2\nxllcorner 0\ncellsize 1\n1 2 3 4\n",
            "the header does not say yllcorner or yllcenter",
        ),
        (
            "ncols 2\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2 3\n",
            "4 in all, and there are 3",
        ),
        (
            "ncols 2\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2 3 x\n",
            "'x' among the values is not a number",
        ),
    ],
)
def test_mistakes_in_grids_of_text_are_named(tmp_path, text, message):
    (tmp_path / "a.asc").write_text(text)
    with pytest.raises(DataError, match=message):
        rhodolite.read(tmp_path / "a.asc")["a"].values()


def test_grids_of_text_from_their_centres_and_beyond_degrees(tmp_path):
    head = "NCOLS 3\nNROWS 2\nXLLCENTER {x}\nYLLCENTER {x}\nCELLSIZE 10\n"
    (tmp_path / "a.asc").write_text(head.format(x=5) + "1 2 3\n4 5 -9999\n")
    data = rhodolite.read(tmp_path / "a.asc")
    assert data["lat"].values().tolist() == [15, 5]
    assert rhodolite.Subset(at="5N,15E")(data)["a"].values().tolist() == [[5]]
    (tmp_path / "b.asc").write_text(head.format(x=600000) + "1 2 3\n4 5 6\n")
    with pytest.warns(
        rhodolite.RhodoliteWarning, match="says nothing of its projection"
    ):
        assert rhodolite.read(tmp_path / "b.asc")["x"].values().tolist() == [
            600000,
            600010,
            600020,
        ]


@given(st.integers(1, 9999), st.integers(1, 12), st.integers(1, 31))
def test_names_of_files_are_read_as_they_are_filled_in(year, month, day):
    for text in (
        "{variable}_{year}{month}{day}.asc",
        "x{day}-{month}-{year}_{variable}.nc",
    ):
        pattern = FilePattern(text)
        values = {"variable": "pr", "year": year, "month": month, "day": day}
        found = pattern.read(pattern.fill(values))
        assert {k: v if k == "variable" else int(v) for k, v in found.items()} == values
    assert FilePattern("a_{year}.asc").read("a_99.asc") is None


@pytest.mark.slow
def test_machines_are_told_the_format(tmp_path):
    rhodolite.write(make_dataset(np.ones((1, 2, 3))), tmp_path / "a.zarr")
    found = json.loads(run_here("inspect", tmp_path / "a.zarr", "--json").out)
    assert found["files"][0]["format"] == "Zarr version 3"
