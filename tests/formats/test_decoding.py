"""Stored numbers become values as the NetCDF library has it: marks, limits, signs and packing of
every type."""

from __future__ import annotations

import warnings

import netCDF4
import numpy as np
import pytest
import zarr
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import run_here, write_plain
from rhodolite.arrays import Engine
from rhodolite.arrays.blocks import iterate_blocks

KINDS = ("i1", "u1", "i2", "u2", "i4", "u4", "i8", "f4", "f8")


@st.composite
def described(draw):
    """Numbers of a type, and attributes about what is missing among them, each of the same type."""
    kind = np.dtype(draw(st.sampled_from(KINDS)))
    pick = st.integers(
        *(np.iinfo(kind).min, np.iinfo(kind).max)
        if kind.kind in "iu"
        else (-1000, 1000)
    )
    numbers = draw(st.lists(pick, min_size=3, max_size=8))
    # Bytes have no number that fills them unless they name one (NetCDF User's Guide); the library
    # has.
    numbers = [
        0 if kind.itemsize == 1 and n in (-127, 129, 255) else n for n in numbers
    ]
    attributes = {}
    chosen = st.sampled_from(numbers)
    if draw(st.booleans()):
        attributes["_FillValue"] = kind.type(draw(chosen))
    if draw(st.booleans()):
        attributes["missing_value"] = np.array(
            draw(st.lists(chosen, min_size=1, max_size=3)), kind
        )
    limits = sorted([draw(chosen), draw(chosen)])
    if draw(st.booleans()):
        attributes["valid_range"] = np.array(limits, kind)
    elif draw(st.booleans()):
        attributes[draw(st.sampled_from(["valid_min", "valid_max"]))] = kind.type(
            limits[0]
        )
    if kind.kind == "i" and draw(st.booleans()):
        attributes["_Unsigned"] = "true"
        if "valid_range" in attributes:  # in order once they are read as unsigned
            ends = np.sort(attributes["valid_range"].view(kind.str.replace("i", "u")))
            attributes["valid_range"] = ends.view(kind)
        if kind.itemsize == 1 and "_FillValue" not in attributes:
            # The library has none for unsigned bytes, and fails where it needs it.
            attributes["_FillValue"] = kind.type(draw(chosen))
    if kind.itemsize < 4 and draw(st.booleans()):
        attributes |= {"scale_factor": 0.5, "add_offset": 10.0}
    return np.array(numbers, kind), attributes


@given(described())
def test_what_is_missing_is_what_the_library_masks(tmp_path_factory, made):
    """Values and gaps exactly, and again after a copy in all that the copy says of itself."""
    numbers, attributes = made
    folder = tmp_path_factory.mktemp("marks")
    path = folder / "in.nc"
    with netCDF4.Dataset(path, "w") as file:
        file.createDimension("x", len(numbers))
        stored = file.createVariable(
            "v", numbers.dtype, ("x",), fill_value=attributes.get("_FillValue")
        )
        stored.setncatts(
            {key: value for key, value in attributes.items() if key != "_FillValue"}
        )
        stored.set_auto_maskandscale(False)
        stored[:] = numbers
    rhodolite.write(rhodolite.read(path), folder / "out.nc")
    for copy in (path, folder / "out.nc"):
        with netCDF4.Dataset(path) as file, warnings.catch_warnings():
            warnings.simplefilter("ignore")
            expected = file["v"][:]
        variable = rhodolite.read(copy)["v"]
        values = variable.floats().read((slice(0, len(numbers)),))
        gaps = np.ma.getmaskarray(expected)
        np.testing.assert_array_equal(np.isnan(values), gaps)
        np.testing.assert_array_equal(
            values[~gaps], expected.data[~gaps].astype(values.dtype)
        )


def test_limits_of_the_unpacked_type_are_about_unpacked_values(tmp_path):
    path = write_plain(
        tmp_path / "p.nc",
        np.arange(-5, 5, dtype="i2").reshape(10, 1, 1),
        kind="i2",
        attributes={
            "scale_factor": 0.1,
            "add_offset": 280.0,
            "units": "K",
            "valid_range": np.array([279.8, 280.2]),
        },
    )
    values = rhodolite.read(path)["tas"].values()[:, 0, 0]
    assert np.isfinite(values).tolist() == [False] * 3 + [True] * 5 + [False] * 2


def test_joined_files_with_different_marks_let_no_mark_through(tmp_path):
    """A mark of one file is a value of the other, and stays one."""
    for day, mark in ((0, -1), (1, 5)):
        write_plain(
            tmp_path / f"{day}.nc",
            np.array([[[5, -1, 7]]], "i2"),
            kind="i2",
            times=[day],
            fill=mark,
        )
    answer = run_here("join", "0.nc", "1.nc", "-o", "both.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    for data in (
        rhodolite.read([tmp_path / "0.nc", tmp_path / "1.nc"]),
        rhodolite.read(tmp_path / "both.nc"),
    ):
        values = data["tas"].floats().read((slice(0, 2), slice(0, 1), slice(0, 3)))
        np.testing.assert_array_equal(values[:, 0], [[5, np.nan, 7], [np.nan, -1, 7]])


@pytest.mark.parametrize("kind", ["i4", "i8", "u1", "f4"])
def test_scalars_of_every_type_go_through_every_verb(tmp_path, kind):
    path = write_plain(
        tmp_path / "in.nc",
        np.random.default_rng(0).random((48, 4, 5)),
        times=np.arange(48) * 30.5,
        lats=[10, 20, 30, 40],
        lons=[0, 10, 20, 30, 40],
        attributes={"units": "K", "coordinates": "height"},
    )
    with netCDF4.Dataset(path, "a") as file:
        file.createVariable("height", kind, ()).setncatts(
            {"units": "m", "standard_name": "height", "positive": "up"}
        )
        file["height"][...] = 2
        file.createVariable("crs", "i4", ()).grid_mapping_name = "latitude_longitude"
    chains = (
        "inspect --statistics",
        "check",
        "subset --lat 10..30",
        "subset --level 2m",
        "summarise",
        "anomaly",
        "trend",
        "aggregate --to year",
        "climatology",
        "detrend",
        "regrid --to 10",
        "extract --points p.csv",
        "index",
        "accumulate",
        "calc --formula tas+1[K] --name x",
        "convert --units tas=degC",
        "compare --with in.nc",
        "correlate --with in.nc",
        "annotate --set tas:a=b",
        "summarise --over time",
    )
    (tmp_path / "p.csv").write_text("name,lat,lon\na,20,20\n")
    for chain in chains:
        verb, *rest = chain.split()
        output = (
            [] if verb in ("inspect", "check") else ["-o", f"{verb}.csv", "--overwrite"]
        )
        answer = run_here(verb, "in.nc", *rest, *output, folder=tmp_path)
        assert answer.code in (0, 3), (chain, answer.err)
        assert "should not" not in answer.err, (chain, answer.err)


@pytest.mark.parametrize("ending", ["nc", "zarr"])
def test_a_scratch_file_holds_packed_numbers_as_they_are_packed(tmp_path, ending):
    """Of two files, joined: the numbers that are read back are those decoded at once."""
    random = np.random.default_rng(3)
    for part in range(2):
        values = random.integers(-300, 300, (40, 12, 40)).astype("i2")
        values[random.random(values.shape) < 0.1] = -999
        write_plain(
            tmp_path / f"{part}.nc",
            values,
            times=np.arange(40) + 40 * part,
            kind="i2",
            chunksizes=(1, 12, 40),
            attributes={
                "scale_factor": 0.1,
                "add_offset": 270.0,
                "missing_value": np.int16(-999),
            },
        )
    paths = [tmp_path / f"{part}.nc" for part in range(2)]
    if ending == "zarr":
        paths = [copy_to_zarr(path) for path in paths]

    class Small(Engine):
        block_limit = 1 << 14

    data = rhodolite.read(paths)["tas"].floats()
    engine = Small()
    laid_out, block = engine.in_units(data, (80, 1, 1))
    (scratch,) = laid_out.sources()
    assert scratch.dtype == np.int16
    engine.prepare([laid_out])
    for region in iterate_blocks(data.shape, block):
        np.testing.assert_array_equal(laid_out.read(region), data.read(region))


def copy_to_zarr(path):
    """Write numbers and attributes as they are stored to a store, with zarr alone."""
    group = zarr.open_group(path.with_suffix(".zarr"), mode="w", zarr_format=3)
    with netCDF4.Dataset(path) as file:
        file.set_auto_maskandscale(False)
        for name, variable in file.variables.items():
            made = group.create_array(
                name,
                data=variable[:],
                chunks=variable.shape
                if variable.ndim == 1
                else (1, *variable.shape[1:]),
                dimension_names=variable.dimensions,
            )
            made.attrs.update(
                {
                    key: np.asarray(value).tolist()
                    for key, value in variable.__dict__.items()
                }
            )
    return path.with_suffix(".zarr")
