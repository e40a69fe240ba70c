"""NetCDF files: those that others wrote are understood, those that we write others understand."""

from __future__ import annotations

import re
import zlib

import h5py
import netCDF4
import numpy as np
import pyproj
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, write_plain
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, RhodoliteWarning
from rhodolite.formats.layout import USUAL_LAYOUT, Compression, Layout
from rhodolite.formats.netcdf.hdf5_filters import (
    ChunkCodec,
    CorruptChunk,
    fletcher32,
    quick_zlib,
    shuffle,
)
from rhodolite.formats.netcdf.lazy_variable import NetCDFVariable
from rhodolite.formats.netcdf.writer import write
from rhodolite.model.variable import Packing, Storage

TIME = np.array(["2000-01-01"], dtype="datetime64[D]")


def through_library(path, name="tas"):
    """The values as the NetCDF library's Python binding decodes them, with NaN for missing."""
    with netCDF4.Dataset(path) as file:
        return np.ma.filled(np.ma.asarray(file[name][:], dtype="f8"), np.nan)


@pytest.mark.parametrize(
    "options",
    [
        {"compression": "zlib", "shuffle": True, "chunksizes": (3, 4, 5)},
        {"compression": "zlib", "shuffle": False, "chunksizes": (1, 7, 9)},
        {"chunksizes": (2, 7, 2)},
        {"contiguous": True},
        {"compression": "zlib", "fletcher32": True, "chunksizes": (4, 4, 4)},
        {"compression": "zstd", "chunksizes": (4, 4, 4)},
        {"compression": "bzip2", "chunksizes": (4, 4, 4)},  # through the library
        {
            "compression": "zlib",
            "fletcher32": True,
            "kind": "f8",
            "chunksizes": (3, 3, 3),
        },
        {"fletcher32": True, "kind": "i2", "chunksizes": (3, 3, 3)},
        {"format": "NETCDF3_64BIT_OFFSET", "kind": "i2"},
        {
            "compression": "zlib",
            "kind": ">f4",
            "endian": "big",
            "chunksizes": (5, 7, 9),
        },
        {"format": "NETCDF3_CLASSIC"},
        {"format": "NETCDF3_64BIT_DATA"},
        {"kind": "f8", "compression": "zlib"},
        {
            "kind": "i2",
            "fill": -9,
            "attributes": {"units": "K", "scale_factor": 0.01, "add_offset": 273.15},
        },
        {
            "kind": "i1",
            "fill": 7,
            "attributes": {"units": "K", "scale_factor": 0.5, "_Unsigned": "true"},
        },
        {
            "kind": "i2",
            "attributes": {"missing_value": np.int16(3), "scale_factor": np.float32(2)},
        },
        {
            "kind": "f4",
            "attributes": {
                "valid_range": np.array([-20.0, 20.0], "f4"),
                "missing_value": np.float32(5),
            },
        },
    ],
    ids=str,
)
def test_values_are_those_that_the_library_decodes(tmp_path, rng, options):
    options = dict(options)
    stored = rng.integers(-100, 100, (11, 7, 9))
    if options.get("_Unsigned"):
        stored = stored.astype("u1")
    path = write_plain(tmp_path / "a.nc", stored, **options)
    data = rhodolite.read(path)["tas"]
    np.testing.assert_allclose(data.values(), through_library(path), rtol=1e-15)
    corner = data.data.read((slice(2, 9), slice(0, 3), slice(4, 9)))
    np.testing.assert_allclose(corner, through_library(path)[2:9, 0:3, 4:9], rtol=1e-15)


@pytest.mark.parametrize(
    "options",
    [
        {"compression": "zlib", "chunksizes": (2, 60, 70)},
        {"compression": "zstd", "fletcher32": True, "chunksizes": (2, 60, 70)},
        {"chunksizes": (2, 60, 70)},
        {"contiguous": True},
        {"format": "NETCDF3_CLASSIC"},
        {"format": "NETCDF3_64BIT_DATA", "kind": "f8"},
    ],
    ids=str,
)
def test_the_usual_layouts_do_not_go_through_the_library(
    tmp_path, rng, monkeypatch, options
):
    path = write_plain(tmp_path / "a.nc", rng.normal(size=(5, 60, 70)), **options)
    expected = through_library(path)
    data = rhodolite.read(path)["tas"]
    monkeypatch.setattr(
        NetCDFVariable,
        "_through_library",
        lambda *_: pytest.fail("the slow way was taken"),
    )
    np.testing.assert_array_equal(data.values(), expected)


def test_chunks_across_the_edges_of_blocks_are_decoded_once(tmp_path, rng, monkeypatch):
    path = write_plain(
        tmp_path / "a.nc",
        rng.normal(size=(97, 40, 50)),
        compression="zlib",
        chunksizes=(10, 40, 50),
    )
    counted = []
    decode = ChunkCodec.decode
    monkeypatch.setattr(
        ChunkCodec, "decode", lambda *a, **k: counted.append(1) or decode(*a, **k)
    )
    part = rhodolite.Subset(time="2000-01-04..")(
        rhodolite.read(path)
    )  # from the middle of a chunk on

    class Small(Engine):
        block_limit = 200_000

    values = Small(workers=2).compute(part["tas"].data)
    assert len(counted) == 10
    np.testing.assert_array_equal(values, through_library(path)[3:].astype("f4"))


@given(st.binary(min_size=1, max_size=300))
def test_checksums_agree_with_a_sum_word_by_word(data):
    first = second = (
        0  # the definition: sums of big-endian words, kept below 65536 by folding
    )
    for high, low in zip(data[::2], (data + b"\0")[1::2], strict=False):
        first += high << 8 | low
        first = (first & 0xFFFF) + (first >> 16)
        second += first
        second = (second & 0xFFFF) + (second >> 16)
    assert fletcher32(data) == second << 16 | first


def test_a_bit_that_was_turned_is_noticed_by_the_checksum(tmp_path, rng):
    path = write_plain(
        tmp_path / "a.nc",
        rng.normal(size=(5, 60, 70)),
        fletcher32=True,
        chunksizes=(1, 60, 70),
    )
    with h5py.File(path) as file:
        place = file["tas"].id.get_chunk_info_by_coord((3, 0, 0)).byte_offset
    with path.open("r+b") as raw:
        raw.seek(place + 100)
        byte = raw.read(1)[0]
        raw.seek(place + 100)
        raw.write(bytes([byte ^ 4]))
    with pytest.raises(
        DataError,
        match=r"chunk that begins at index \(3, 0, 0\): its checksum does not fit its bytes",
    ):
        rhodolite.read(path)["tas"].values()


def test_chunks_that_were_never_written_are_missing(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, n in (("y", 4), ("x", 6)):
            file.createDimension(name, n)
        made = file.createVariable(
            "v", "f4", ("y", "x"), compression="zlib", chunksizes=(2, 3)
        )
        made[:2, :3] = 1.0
    values = rhodolite.read(tmp_path / "a.nc")["v"].values()
    assert np.isnan(values).sum() == 18
    assert (values[:2, :3] == 1).all()


shapes = st.tuples(st.integers(1, 5), st.integers(1, 40), st.integers(1, 90))


@given(st.data(), shapes, st.sampled_from(["f4", "f8", "i2", "i4"]), st.booleans())
def test_what_is_written_comes_back_the_same(tmp_path, data, shape, kind, unlimited):
    random = np.random.default_rng(sum(shape))
    values = (random.normal(0, 1000, shape)).astype(kind)
    if kind in ("f4", "f8"):
        values[random.random(shape) < 0.1] = np.nan
    chunks = data.draw(st.none() | st.tuples(*(st.integers(1, n) for n in shape)))
    made = make_dataset(
        values, attributes={"long_name": "some temperature", "height": np.float32(2)}
    )
    variable = made["tas"].replace(storage=Storage(chunks=chunks))
    growing = frozenset(["time"] if unlimited else [])
    others = list(made.variables.values())[:-1]
    made = made.with_variables(
        [*others, variable], unlimited=growing, attributes={"title": "t", "n": 3}
    )
    path = tmp_path / f"{len(list(tmp_path.iterdir()))}.nc"
    write(made, path, Engine(workers=2, memory=1 << 20), USUAL_LAYOUT)
    again = rhodolite.read(path)
    assert again["tas"].data.dtype == values.dtype
    np.testing.assert_array_equal(again["tas"].values(), values)
    np.testing.assert_allclose(through_library(path), values.astype("f8"), rtol=0)
    assert dict(again["tas"].attributes) == dict(variable.attributes)
    assert again.attributes == {"title": "t", "n": 3}
    assert again.unlimited == made.unlimited
    with h5py.File(path) as file:
        np.testing.assert_array_equal(
            np.nan_to_num(file["lat"][:]), np.arange(shape[1])
        )


def test_large_variables_are_deflated_in_the_chunks_of_their_source(tmp_path, rng):
    made = make_dataset(rng.normal(280, 1, (30, 200, 100)).astype("f4"))
    variable = made["tas"].replace(storage=Storage(chunks=(7, 200, 50)))
    write(
        made.with_variables([*list(made.variables.values())[:-1], variable]),
        tmp_path / "a.nc",
        Engine(),
        USUAL_LAYOUT,
    )
    with netCDF4.Dataset(tmp_path / "a.nc") as file:
        assert file["tas"].chunking() == [7, 200, 50]
        assert file["tas"].filters()["zlib"]
        assert file["tas"].filters()["shuffle"]


def test_packed_values_are_within_half_a_step_and_out_of_range_is_refused(
    tmp_path, rng
):
    values = rng.uniform(200, 320, (40, 40, 40))
    values[0, 0, 0] = np.nan
    storage = Storage(
        dtype="int16", fill_value=-32768, packing=Packing("int16", 0.0025, 265.0)
    )
    made = make_dataset(values)
    packed = made.with_variables(
        [*list(made.variables.values())[:-1], made["tas"].replace(storage=storage)]
    )
    write(packed, tmp_path / "a.nc", Engine(), USUAL_LAYOUT)
    back = through_library(tmp_path / "a.nc")
    np.testing.assert_allclose(back, values, atol=0.00126)
    assert np.isnan(back[0, 0, 0])
    narrow = packed["tas"].replace(
        storage=Storage(
            dtype="int16", fill_value=0, packing=Packing("int16", 1e-4, 265.0)
        )
    )
    with pytest.raises(DataError, match="does not fit the packing"):
        write(
            made.with_variables([*list(made.variables.values())[:-1], narrow]),
            tmp_path / "b.nc",
            Engine(),
            USUAL_LAYOUT,
        )


def test_packed_data_are_calculated_in_their_type_and_written_in_float32(tmp_path):
    path = write_plain(
        tmp_path / "a.nc",
        np.arange(60).reshape(3, 4, 5),
        kind="i2",
        attributes={"units": "K", "scale_factor": 0.01, "add_offset": 273.15},
    )
    data = rhodolite.read(path)
    assert data["tas"].data.dtype == np.float64
    rhodolite.write(data, tmp_path / "b.nc")
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        assert file["tas"].dtype == np.float32
        assert "scale_factor" not in file["tas"].ncattrs()


@given(
    st.integers(1, 40_000),
    st.sampled_from(["f4", "f8", "i2"]),
    st.integers(0, 52),
    st.integers(0, 99),
)
def test_quickly_deflated_chunks_are_ordinary_streams(count, kind, noisy_bits, seed):
    """Against the inflate of zlib, byte for byte."""
    values = (280 + np.cumsum(np.random.default_rng(seed).normal(size=count))).astype(
        kind
    )
    if kind != "i2":
        values = np.round(values * 2.0**noisy_bits) / 2.0**noisy_bits
    planes = shuffle(values.astype(kind))
    stream = quick_zlib(planes)
    assert zlib.decompress(stream) == planes.tobytes()
    assert len(stream) <= planes.size * 1.01 + 64


@given(st.binary(min_size=24, max_size=24), st.booleans())
def test_damaged_chunks_never_decode_to_numbers(noise, shuffle):
    codec = ChunkCodec(
        np.dtype("<f4"), (2, 3), ("shuffle", "deflate") if shuffle else ("deflate",)
    )
    values = np.frombuffer(noise, "<f4").reshape(2, 3)
    data = codec.encode(values)
    np.testing.assert_array_equal(codec.decode(data, 0).view("u4"), values.view("u4"))
    for bad in (data[:-5], b"", data[:8] + bytes([data[8] ^ 0xFF]) + data[9:]):
        with pytest.raises(CorruptChunk):
            codec.decode(bad, 0)


def test_a_corrupt_chunk_is_named(tmp_path, rng):
    path = write_plain(
        tmp_path / "a.nc",
        rng.normal(size=(4, 30, 40)),
        compression="zlib",
        chunksizes=(1, 30, 40),
    )
    with h5py.File(path) as file:
        place = file["tas"].id.get_chunk_info_by_coord((2, 0, 0))
    with path.open("r+b") as raw:
        raw.seek(place.byte_offset + 40)
        raw.write(bytes(range(60)))
    with pytest.raises(
        DataError,
        match=r"a\.nc: variable 'tas' is damaged: the chunk that begins at index \(2, 0, 0\)",
    ):
        rhodolite.read(path)["tas"].values()


@pytest.mark.parametrize(
    "variant", ["NETCDF3_CLASSIC", "NETCDF3_64BIT_OFFSET", "NETCDF3_64BIT_DATA"]
)
@pytest.mark.parametrize("records", [None, 1, 3])
def test_a_classic_file_that_is_cut_short_is_refused_and_a_whole_one_is_not(
    tmp_path, rng, variant, records
):
    path = tmp_path / "a.nc"
    with netCDF4.Dataset(path, "w", format=variant) as file:
        file.title = "odd length"
        for name, n in (("time", None if records else 4), ("lat", 3), ("lon", 5)):
            file.createDimension(name, n)
        for name, kind in list({"b": "i1", "tas": "f4", "n": "f8"}.items())[
            : records or 3
        ]:
            file.createVariable(name, kind, ("time", "lat", "lon"))[:] = rng.integers(
                0, 99, (4, 3, 5)
            )
            file[name].units = "K"
    assert rhodolite.read(path)["b"].values().shape == (4, 3, 5)
    content = path.read_bytes()
    for lost in (8, len(content) // 2, len(content) - 20):
        short = tmp_path / f"{lost}.nc"
        short.write_bytes(content[:-lost])
        with pytest.raises(DataError, match=r"cut short"):
            rhodolite.read(short)


def test_the_same_dataset_is_the_same_file_to_the_bit(tmp_path, rng):
    made = make_dataset(rng.normal(size=(20, 40, 50)))
    for name in ("a.nc", "b.nc"):
        write(made, tmp_path / name, Engine(), Layout(compression=Compression.SMALL))
    assert (tmp_path / "a.nc").read_bytes() == (tmp_path / "b.nc").read_bytes()


def test_names_that_are_dimensions_but_no_coordinates(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.createDimension("lat", 200)
        file.createDimension("lon", 200)
        for name, units in (("lat", "degrees_north"), ("lon", "degrees_east")):
            made = file.createVariable(name, "f4", ("lat", "lon"), compression="zlib")
            made.units = units
            made[:] = np.arange(40000).reshape(200, 200) / 1000
    data = rhodolite.read(tmp_path / "a.nc")
    assert data.axes.curvilinear == ("lat", "lon")
    rhodolite.write(data, tmp_path / "b.nc")
    np.testing.assert_array_equal(
        through_library(tmp_path / "b.nc", "lat"),
        through_library(tmp_path / "a.nc", "lat"),
    )


def test_groups_are_named_and_share_the_coordinates_around_them(tmp_path, rng):
    values = rng.normal(size=(60, 80)).astype("f4")
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.title = "outer"
        for name, n, units in (
            ("lat", 60, "degrees_north"),
            ("lon", 80, "degrees_east"),
        ):
            file.createDimension(name, n)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = np.arange(n)
        inner = file.createGroup("model/run")
        inner.title = "inner"
        inner.createVariable(
            "tas", "f4", ("lat", "lon"), compression="zlib", chunksizes=(20, 20)
        )[:] = values
    data = rhodolite.read(f"{tmp_path}/a.nc:/model/run")
    assert set(data.variables) == {"lat", "lon", "tas"}
    np.testing.assert_array_equal(data["tas"].values(), values)
    assert data.attributes["title"] == "inner"
    assert rhodolite.Subset(lat="10..19")(data)["tas"].shape == (10, 80)
    whole = rhodolite.read(tmp_path / "a.nc")
    np.testing.assert_array_equal(whole["model/run/tas"].values(), values)
    assert whole.attributes["title"] == "outer"
    with pytest.raises(
        DataError, match=r"no group '/modell/run'\. Did you mean /model/run"
    ):
        rhodolite.read(f"{tmp_path}/a.nc:/modell/run")


def test_a_file_of_groups_alone_says_which_there_are(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.createGroup("g").createVariable("x", "f4", ())[...] = 1
    with pytest.raises(
        DataError, match=r"its variables are in groups; name one of .*a\.nc:/g"
    ):
        rhodolite.read(tmp_path / "a.nc")


def test_coordinates_along_dimensions_of_other_names_and_latin_letters(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w", format="NETCDF3_CLASSIC") as file:
        file.createDimension("y", 3)
        file.createDimension("x", 4)
        for name, dimension, n in (("latitude", "y", 3), ("longitude", "x", 4)):
            file.createVariable(name, "f8", (dimension,))[:] = np.arange(n)
        made = file.createVariable("tas", "f4", ("y", "x"))
        made[:] = np.arange(12).reshape(3, 4)
        made.place = "Malmoe"
    content = (tmp_path / "a.nc").read_bytes()
    (tmp_path / "a.nc").write_bytes(content.replace(b"Malmoe", b"Malm\xf6 "))
    with pytest.warns(
        rhodolite.RhodoliteWarning, match="the attribute place is not in UTF-8"
    ):
        data = rhodolite.read(tmp_path / "a.nc")
    assert data["tas"].attributes["place"].strip() == "Malmö"
    part = rhodolite.Subset(lat="1..2", lon="3", variable="tas")(data)
    assert part["tas"].values().tolist() == [[7], [11]]
    assert set(part.variables) == {"latitude", "longitude", "tas"}


def test_how_much_work_goes_into_compression_changes_sizes_and_no_value(tmp_path):
    values = np.round(
        280 + np.cumsum(np.random.default_rng(3).normal(size=(40, 50, 60)), axis=0), 2
    ).astype("f4")
    sizes = []
    for compression in ("none", "fast", "small"):
        path = tmp_path / f"{compression}.nc"
        rhodolite.write(make_dataset(values), path, compression=compression)
        np.testing.assert_array_equal(through_library(path).astype("f4"), values)
        sizes.append(path.stat().st_size)
    assert sizes[0] > values.nbytes > 1.3 * sizes[1] > 1.3 * sizes[2]


def test_ten_thousand_chunks_and_one_chunk(tmp_path, rng):
    values = rng.normal(size=(10_000, 3, 4)).astype("f4")
    for number, chunks in enumerate([(1, 3, 4), (10_000, 3, 4)]):
        path = write_plain(
            tmp_path / f"{number}.nc", values, compression="zlib", chunksizes=chunks
        )
        part = rhodolite.Subset(time="2003..2004")(rhodolite.read(path))
        assert part["tas"].shape == (731, 3, 4)
        rhodolite.write(part, tmp_path / f"{number}_part.nc")
        np.testing.assert_array_equal(
            through_library(tmp_path / f"{number}_part.nc").astype("f4"),
            values[1096:1827],
        )


@pytest.mark.parametrize("variant", ["netcdf4", "netcdf4-classic", "netcdf3-classic"])
@pytest.mark.parametrize("kind", ["i2", "u2", "i4", "u4", "i8"])
def test_numbers_that_usually_stand_for_missing_values_are_kept(
    tmp_path, variant, kind
):
    """The default fill value of a type among the data, with one or both ends of what it holds."""
    usual = netCDF4.default_fillvals[kind]
    limits = np.iinfo(kind)
    for others in ([5], [5, limits.min], [5, limits.max], [5, limits.min, limits.max]):
        values = np.resize(np.array([usual, *others], dtype=kind), (1, 3, 4))
        made = rhodolite.from_arrays(
            {"x": values},
            {"time": TIME, "lat": np.arange(3.0), "lon": np.arange(4.0)},
            units={"x": "1"},
        )
        try:
            made.write(tmp_path / "a.nc", format=variant, overwrite=True)
        except DataError:
            assert values.astype("f8").min() < -(2**31) or values.max() >= 2**31 - 1
            continue
        with netCDF4.Dataset(tmp_path / "a.nc") as file:
            stored = file["x"][:]
        assert not np.ma.is_masked(stored)
        np.testing.assert_array_equal(
            np.ma.getdata(stored).astype("f8"), values.astype("f8")
        )
        again = rhodolite.read(tmp_path / "a.nc")["x"].values()
        np.testing.assert_array_equal(again.astype("f8"), values.astype("f8"))


def eos_text(origin, projection="HE5_GCTP_GEO"):
    """The text of a file with one grid, corners in packed degrees (DDDMMMSSS.SS)."""
    return f"""GROUP=SwathStructure
END_GROUP=SwathStructure
GROUP=GridStructure
\tGROUP=GRID_1
\t\tGridName="Monthly"
\t\tXDim=36
\t\tYDim=18
\t\tUpperLeftPointMtrs=(-180000000.000000,90000000.000000)
\t\tLowerRightMtrs=(179030000.000000,-90000000.000000)
\t\tProjection={projection}
\t\tGridOrigin=HE5_HDFE_GD_{origin}
\t\tGROUP=DataField
\t\t\tOBJECT=DataField_1
\t\t\t\tDataFieldName="SurfTemp"
\t\t\t\tDimList=("Hour","YDim","XDim")
\t\t\tEND_OBJECT=DataField_1
\t\tEND_GROUP=DataField
\tEND_GROUP=GRID_1
END_GROUP=GridStructure
END
"""


@pytest.mark.parametrize("origin", ["UL", "LL", "UR"])
def test_grids_of_earth_observation_lie_where_their_text_says(tmp_path, origin):
    path, values = (
        tmp_path / "e.he5",
        np.arange(2 * 18 * 36, dtype="f4").reshape(2, 18, 36),
    )
    with h5py.File(path, "w") as file:
        fields = file.create_group("HDFEOS/GRIDS/Monthly/Data Fields")
        stored = fields.create_dataset("SurfTemp", data=values, chunks=(1, 6, 12))
        stored.attrs["_FillValue"] = np.array([5.0], "f4")
        stored.attrs["Units"] = np.bytes_("K")
        text = np.bytes_(eos_text(origin).ljust(2000, "\0"))
        file.create_group("HDFEOS INFORMATION")["StructMetadata.0"] = text
    data = rhodolite.read(path)
    field = data["SurfTemp"]
    assert field.dimensions == ("Hour", "lat", "lon")
    assert field.units == "K"
    expected = np.where(values == 5, np.nan, values)
    np.testing.assert_array_equal(field.values(), expected)
    lat, lon = data["lat"].values(), data["lon"].values()
    # 359.5 degrees are 36 columns, since 179030000 is 179 degrees and 30 minutes.
    first = (85 if origin != "LL" else -85, (-180 if origin != "UR" else 179.5))
    assert lat[0] == first[0]
    width = 359.5 / 36
    assert lon[0] == pytest.approx(first[1] + (width if origin != "UR" else -width) / 2)
    assert abs(lon[1] - lon[0]) == pytest.approx(width)
    mean = data.summarise(over="area")["SurfTemp"].values()
    assert np.isfinite(mean).all()


@pytest.mark.parametrize(
    ("projection", "numbers", "system"),
    [
        ("LAMAZ", "(6371228.0,0,0,0,0,90000000,0,0,0,0,0,0,0)", "EPSG:3408"),
        ("PS", "(6378137.0,0.00669437999,0,0,-45000000,70000000,0,0)", "EPSG:3413"),
        ("PS", "(0,0,0,0,0,-71000000,0,0)\n\t\tSphereCode=12", "EPSG:3031"),
        ("CEA", "(6371228.0,0,0,0,0,30000000,0,0)", "EPSG:3410"),
        ("UTM", "(0,0)\n\t\tZoneCode=-33\n\t\tSphereCode=12", "EPSG:32733"),
        ("LAMCC", "(0,0,25000000,35000000,-100000000,30030000,5,7)", None),
        ("ALBERS", "(0,0,25000000,35000000,-100000000,30030000,5,7)", None),
        ("TM", "(6378137.0,6356752.0,0.9996,0,9000000,0,500000,0)", None),
        ("MERCAT", "(0,0,0,0,9000000,30000000,5,7)", None),
        ("BCEA", "(0,0,0,0,9000000,30000000,5,7)", None),
        ("SNSOID", "(6371007.181,0,0,0,0,0,0,0)", "+proj=sinu +R=6371007.181"),
    ],
)
def test_projected_grids_of_earth_observation_lie_where_others_place_them(
    tmp_path, projection, numbers, system
):
    """Against the registered systems of PROJ: a thousandth of a second of arc."""
    proj = {
        "LAMCC": "+proj=lcc +R=6370997",
        "ALBERS": "+proj=aea +R=6370997",
        "TM": "+proj=tmerc +k=0.9996 +lon_0=9 +x_0=500000 +a=6378137 +b=6356752",
    }
    cylindric = " +R=6370997 +lon_0=9 +lat_ts=30 +x_0=5 +y_0=7"
    proj |= {"MERCAT": f"+proj=merc{cylindric}", "BCEA": f"+proj=cea{cylindric}"}
    conic = " +lat_1=25 +lat_2=35 +lon_0=-100 +lat_0=30.5 +x_0=5 +y_0=7"
    if system is None:
        system = proj[projection] + (conic if projection in ("LAMCC", "ALBERS") else "")
    text = re.sub(r"Mtrs=\(.*?\)", "Mtrs=(-360000.0,180000.0)", eos_text("UL"), count=1)
    text = text.replace("(179030000.000000,-90000000.000000)", "(0.0,-180000.0)")
    words = f"HE5_GCTP_{projection}\n\t\tProjParams={numbers}"
    with h5py.File(tmp_path / "p.he5", "w") as file:
        fields = file.create_group("HDFEOS/GRIDS/Monthly/Data Fields")
        fields["SurfTemp"] = np.arange(2 * 18 * 36, dtype="f4").reshape(2, 18, 36)
        text = text.replace("HE5_GCTP_GEO", words)
        about = file.create_group("HDFEOS INFORMATION")
        about["StructMetadata.0"] = np.bytes_(text.ljust(3000, "\0"))
    data = rhodolite.read(tmp_path / "p.he5")
    assert data["SurfTemp"].dimensions == ("Hour", "y", "x")
    crs = pyproj.CRS(system)
    place = pyproj.Transformer.from_crs(crs, crs.geodetic_crs, always_xy=True)
    x, y = np.arange(-355000.0, 0, 10000), np.arange(170000.0, -180000, -20000)
    lon, lat = place.transform(*np.meshgrid(x, y))
    np.testing.assert_allclose(data["lat"].values(), lat, atol=3e-7)
    apart = (data["lon"].values() - lon + 180) % 360 - 180
    np.testing.assert_allclose(apart, 0, atol=3e-7)


def test_a_projection_without_its_numbers_is_said_to_be_unknown(tmp_path):
    with h5py.File(tmp_path / "p.he5", "w") as file:
        fields = file.create_group("HDFEOS/GRIDS/Monthly/Data Fields")
        fields["SurfTemp"] = np.zeros((2, 18, 36), "f4")
        text = eos_text("UL", "HE5_GCTP_UTM").ljust(2000, "\0")
        about = file.create_group("HDFEOS INFORMATION")
        about["StructMetadata.0"] = np.bytes_(text)
    with pytest.warns(RhodoliteWarning, match="or lacks its numbers"):
        data = rhodolite.read(tmp_path / "p.he5")
    assert not data.axes.by_role and data.axes.curvilinear is None


SWATH_TEXT = """GROUP=SwathStructure
\tGROUP=SWATH_1
\t\tSwathName="Column"
\t\tGROUP=Dimension
\t\t\tOBJECT=Dimension_1
\t\t\t\tDimensionName="nTimes"
\t\t\t\tSize=8
\t\t\tEND_OBJECT=Dimension_1
\t\tEND_GROUP=Dimension
\t\tGROUP=GeoField
\t\t\tOBJECT=GeoField_1
\t\t\t\tGeoFieldName="Latitude"
\t\t\t\tDimList=("nTimes","nXtrack")
\t\t\tEND_OBJECT=GeoField_1
\t\t\tOBJECT=GeoField_2
\t\t\t\tGeoFieldName="Longitude"
\t\t\t\tDimList=("nTimes","nXtrack")
\t\t\tEND_OBJECT=GeoField_2
\t\tEND_GROUP=GeoField
\t\tGROUP=DataField
\t\t\tOBJECT=DataField_1
\t\t\t\tDataFieldName="Amount"
\t\t\t\tDimList=("nTimes","nXtrack")
\t\t\tEND_OBJECT=DataField_1
\t\tEND_GROUP=DataField
\tEND_GROUP=SWATH_1
END_GROUP=SwathStructure
GROUP=GridStructure
END_GROUP=GridStructure
END
"""


def test_swaths_of_earth_observation_have_the_positions_of_their_pixels(tmp_path):
    """A swath of eight by eight pixels, whose dimensions only the text names."""
    path, values = tmp_path / "s.he5", np.arange(64, dtype="f4").reshape(8, 8)
    lat, lon = np.meshgrid(
        np.linspace(10, 24, 8), np.linspace(100, 114, 8), indexing="ij"
    )
    lat = lat + (lon - 100) / 10
    with h5py.File(path, "w") as file:
        fields = file.create_group("HDFEOS/SWATHS/Column/Data Fields")
        fields.create_dataset("Amount", data=values).attrs["Units"] = np.bytes_(
            "mol m-2"
        )
        places = file.create_group("HDFEOS/SWATHS/Column/Geolocation Fields")
        places.create_dataset("Latitude", data=lat.astype("f4"))
        places.create_dataset("Longitude", data=lon.astype("f4"))
        text = np.bytes_(SWATH_TEXT.ljust(2000, "\0"))
        file.create_group("HDFEOS INFORMATION")["StructMetadata.0"] = text
    data = rhodolite.read(path)
    assert data["Amount"].dimensions == ("nTimes", "nXtrack")
    assert data["Amount"].units == "mol m-2"
    assert data.axes.curvilinear == ("Latitude", "Longitude")
    np.testing.assert_array_equal(data["Amount"].values(), values)
    part = data.subset(lat="10..12", lon="100..104")["Amount"].values()
    inside = (lat <= 12 + 1e-5) & (lon <= 104 + 1e-5)
    assert np.nansum(part) == values[inside].sum()
    fine = data.regrid(to="2", method="nearest")["Amount"].values()
    assert np.isfinite(fine).sum() > 40
