"""Files as others made them: groups, what cannot be decoded, tables and outlines with one name
twice, coordinates that are none."""

from __future__ import annotations

import json
import os

import h5py
import netCDF4
import numpy as np
import pytest
import zarr

import rhodolite
from conftest import run_here, write_plain
from rhodolite.errors import DataError, RhodoliteWarning


def add_axes(file, **lengths):
    units = {
        "time": "days since 2000-01-01",
        "lat": "degrees_north",
        "lon": "degrees_east",
    }
    for name, n in lengths.items():
        file.createDimension(name, n)
        if name not in units:
            continue
        file.createVariable(name, "f8", (name,)).units = units[name]
        file[name][:] = np.arange(n)


@pytest.fixture
def grouped(tmp_path):
    """Coordinates at the root, fields of the same name in two groups, and a group of its own."""
    with netCDF4.Dataset(tmp_path / "groups.nc", "w") as file:
        add_axes(file, time=4, lat=3, lon=5)
        for at, name in enumerate(("model", "obs")):
            made = file.createGroup(name).createVariable(
                "tas", "f4", ("time", "lat", "lon")
            )
            made.units = "K"
            made[:] = 280 + at
        other = file.createGroup("other")
        other.createDimension("x", 7)
        other.createVariable("q", "f4", ("x",))[:] = 1
    return tmp_path


def test_fields_of_groups_are_found_and_groups_left_out_are_named(grouped):
    page = run_here("inspect", "groups.nc", folder=grouped)
    assert "obs_tas" in page.out
    assert "left out: /other; name one as FILE:/other" in page.err
    assert "/model, /obs, /other" in page.out
    for asked, value in (
        ("tas", 280),
        ("model/tas", 280),
        ("obs/tas", 281),
        ("obs_tas", 281),
    ):
        answer = run_here(
            "subset",
            "groups.nc",
            "--variable",
            asked,
            "-o",
            "part.nc",
            "--overwrite",
            folder=grouped,
        )
        assert answer.code == 0, answer.err
        with netCDF4.Dataset(grouped / "part.nc") as file:
            field = next(v for v in file.variables.values() if v.ndim == 3)
            assert (field[:] == value).all()
    assert run_here("inspect", "groups.nc:/other", folder=grouped).code == 0


@pytest.mark.parametrize("axis", ["time", "lat"])
@pytest.mark.parametrize(
    ("kind", "along", "why"),
    [
        ("f8", (), "one more"),
        ("f8", ("b", "own"), "one more"),
        ("f8", ("own", "c"), "3 values for each"),
        ("f8", ("own", "b", "c"), "one more"),
        (str, ("own", "b"), "no numbers"),
    ],
)
def test_what_cannot_be_bounds_is_left_out(tmp_path, axis, kind, along, why):
    """Every verb answers as if they were not there."""
    for name in ("odd.nc", "plain.nc"):
        with netCDF4.Dataset(tmp_path / name, "w") as file:
            add_axes(file, time=4, lat=3, lon=5, b=2, c=3)
            file.createVariable("tas", "f4", ("time", "lat", "lon")).units = "K"
            file["tas"][:] = np.arange(60.0).reshape(4, 3, 5)
            if name == "odd.nc":
                file[axis].bounds = "ends"
                dims = tuple(axis if part == "own" else part for part in along)
                file.createVariable("ends", kind, dims)
    checked = run_here("check", "odd.nc", folder=tmp_path)
    assert f"cannot be the bounds of {axis}" in checked.out
    answers = []
    for name in ("odd.nc", "plain.nc"):
        answer = run_here("summarise", name, "-o", f"{name}.csv", folder=tmp_path)
        assert answer.code == 0, answer.err
        assert (why in answer.err) == (name == "odd.nc")
        answers.append((tmp_path / f"{name}.csv").read_text())
    assert answers[0] == answers[1]


@pytest.mark.parametrize("named", ["lat", "tas"])
def test_what_is_named_as_bounds_by_mistake_is_kept(tmp_path, named):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        add_axes(file, time=4, lat=3, lon=5)
        file["lat"].bounds = named
        file.createVariable("tas", "f4", ("time", "lat", "lon")).units = "K"
        file["tas"][:] = 280
    with pytest.warns(RhodoliteWarning, match="is not taken as the bounds of lat"):
        data = rhodolite.read(tmp_path / "a.nc")
    assert data["tas"].shape == (4, 3, 5)
    assert data.variables["lat"].values().tolist() == [0, 1, 2]


def test_values_that_are_no_numbers_are_left_out_by_name(tmp_path):
    """Also those that the NetCDF library does not list; what stands beside them is read."""
    kinds = {
        "record": np.dtype([("a", "f4"), ("b", h5py.string_dtype())]),
        "blob": h5py.opaque_dtype(np.dtype("V8")),
        "pointer": h5py.ref_dtype,
        "rows": np.dtype(("f4", (3,))),
        "lists": h5py.vlen_dtype(np.dtype("f4")),
    }
    with h5py.File(tmp_path / "a.h5", "w") as file:
        for name, kind in kinds.items():
            file.create_dataset(name, (4,), dtype=kind)
        file["choice"] = np.array(
            [0, 1], h5py.enum_dtype({"RED": 0, "BLUE": 1}, basetype="i1")
        )
    page = run_here("inspect", "a.h5", folder=tmp_path)
    assert page.code == 0
    for name in kinds:
        assert page.err.count(f"{name} is left out") == 1
    data = rhodolite.read(tmp_path / "a.h5")
    assert data["choice"].values().tolist() == [0, 1]


def test_names_in_a_file_that_are_no_text_are_damage(tmp_path):
    path = tmp_path / "a.h5"
    with h5py.File(path, "w") as file:
        file["marked"] = np.arange(4.0)
    path.write_bytes(path.read_bytes().replace(b"marked", b"ma\xff\xfeed"))
    answer = run_here("inspect", "a.h5", folder=tmp_path)
    assert answer.code == 3
    assert "cannot be read" in answer.err and "internal error" not in answer.err


def test_more_than_could_be_described_is_refused(tmp_path):
    """Groups and attributes without number, and values that no disk holds."""
    with h5py.File(tmp_path / "groups.h5", "w", libver="latest") as file:
        for at in range(10_001):
            file.create_group(f"g{at}")
    with h5py.File(tmp_path / "notes.h5", "w", libver="latest") as file:
        file["x"] = 1.0
        file["x"].attrs.create("note", np.zeros(70_000_000, "u1"))
    for name, words in (
        ("groups", "10,000 groups and variables"),
        ("notes", "more than 64 MB"),
    ):
        with pytest.raises(DataError, match=words):
            rhodolite.read(tmp_path / f"{name}.h5")
    with h5py.File(tmp_path / "huge.h5", "w") as file:
        file.create_dataset("x", (2**30, 2**30), "f4", chunks=(64, 64)).attrs[
            "units"
        ] = "K"
    root = zarr.open_group(tmp_path / "huge.zarr", mode="w")
    root.create_array("x", shape=(2**30, 2**30), chunks=(64, 64), dtype="f4")
    for name in ("huge.h5", "huge.zarr"):
        answer = run_here("inspect", name, "--statistics", folder=tmp_path)
        assert answer.code == 3
        assert "cannot be in the" in answer.err


@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
def test_a_dimension_that_stands_twice_is_another_the_second_time(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        add_axes(file, lat=3, lon=4)
        file.createVariable("cov", "f8", ("lat", "lat", "lon"))[:] = np.arange(
            36
        ).reshape(3, 3, 4)
    cov = rhodolite.read(tmp_path / "a.nc")["cov"]
    assert cov.dimensions == ("lat", "lat_2", "lon")
    row = rhodolite.Subset(lat="1..1")(rhodolite.read(tmp_path / "a.nc"))
    np.testing.assert_array_equal(
        row["cov"].values()[0], np.arange(12, 24).reshape(3, 4)
    )
    for verb in (("regrid", "--to", "1"), ("summarise",), ("convert",)):
        for suffix in ("nc", "zarr", "csv"):
            out = f"{verb[0]}.{suffix}"
            answer = run_here(verb[0], "a.nc", *verb[1:], "-o", out, folder=tmp_path)
            assert answer.code == 0, answer.err


@pytest.mark.parametrize(
    "value", [[[[[]]]], [[1, 2], [3]], [None, 1], {"a": 1}, [True], 2**70]
)
def test_attributes_that_only_json_holds_are_text(tmp_path, value):
    store = zarr.open_group(tmp_path / "a.zarr", mode="w")
    array = store.create_array("x", shape=(2,), dtype="f4", dimension_names=("cell",))
    array.attrs["note"] = value
    assert run_here("convert", "a.zarr", "-o", "a.nc", folder=tmp_path).code == 0
    with netCDF4.Dataset(tmp_path / "a.nc") as file:
        assert file["x"].note == str(value)


def test_streams_and_names_that_are_no_text_say_what_to_do(tmp_path):
    os.mkfifo(tmp_path / "pipe.nc")
    for name, words in (("pipe.nc", "is a stream"), ("\udcff.nc", "UTF-8")):
        answer = run_here("inspect", name, folder=tmp_path)
        assert (answer.code, words in answer.err) == (3, True), answer.err


def test_groups_of_stores_are_read_as_those_of_files(tmp_path):
    store = zarr.open_group(tmp_path / "groups.zarr", mode="w")
    about = {"lat": "degrees_north", "lon": "degrees_east"}
    for name, units in about.items():
        axis = store.create_array(name, data=np.arange(3.0), dimension_names=[name])
        axis.attrs["units"] = units
    for at, name in enumerate(("model", "obs")):
        values = np.full((3, 3), 280.0 + at)
        store.create_group(name).create_array(
            "tas", data=values, dimension_names=["lat", "lon"]
        ).attrs["units"] = "K"
    store.create_group("other").create_array(
        "q", data=np.ones(7), dimension_names=["x"]
    )
    page = run_here("inspect", "groups.zarr", folder=tmp_path)
    assert "/model, /obs, /other" in page.out
    assert "left out: /other; name one as FOLDER:/other" in page.err
    for asked, value in (("tas", 280), ("obs/tas", 281)):
        line = ("summarise", "groups.zarr", "--variable", asked)
        answer = run_here(*line, "-o", f"{value}.csv", folder=tmp_path)
        assert answer.code == 0, answer.err
        assert str(value) in (tmp_path / f"{value}.csv").read_text()


def test_a_site_stands_once_in_a_table_of_points(tmp_path):
    """The same place twice is one site, another place of that name is refused, and a column that
    tells no sites apart is not their name."""
    write_plain(tmp_path / "t.nc", np.arange(24.0).reshape(2, 3, 4))
    tables = {
        "joined": (
            "site,lat,lon\nA,0,0\nA,0,0\nB,10,10\n",
            0,
            "same site and place: lines 3",
        ),
        "refused": ("site,lat,lon\nA,0,0\nB,0,5\nA,10,10\n", 1, "in the lines 2 and 4"),
        "numbered": ("kind,lat,lon\nhill,0,0\nhill,10,10\n", 0, ""),
    }
    for name, (text, code, words) in tables.items():
        (tmp_path / f"{name}.csv").write_text(text)
        line = ("extract", "t.nc", "--points", f"{name}.csv", "-o", f"{name}.nc")
        answer = run_here(*line, folder=tmp_path)
        assert (answer.code != 0) == bool(code), answer.err
        assert words in answer.err
        if not code:
            assert rhodolite.read(tmp_path / f"{name}.nc").lengths["site"] == 2


def test_what_cannot_be_decoded_is_described_all_the_same(tmp_path):
    """Times that are missing, a textual offset, latitudes without a value, an axis of no cells,
    ragged values, and rows without an order."""
    with netCDF4.Dataset(tmp_path / "odd.nc", "w") as file:
        add_axes(file, lon=4, lat=3)
        file["lat"][:] = [60, 62, 61]
        file.createDimension("time", 2)
        file.createVariable(
            "time", "f8", ("time",), fill_value=-1.0
        ).units = "days since 2000-01-01"
        packed = file.createVariable("packed", "i2", ("lat", "lon"))
        packed.set_auto_maskandscale(False)
        packed.setncatts({"units": "K", "add_offset": "much"})
        packed[:] = 1
        lists = file.createVLType("f8", "lists")
        file.createVariable("ragged", lists, ("lon",))
        file.createVariable("tas", "f4", ("lat", "lon")).units = "K"
        file["tas"][:] = 280
    page = run_here("inspect", "odd.nc", folder=tmp_path)
    assert page.code == 0
    for words in ("'time' has missing values", "rows go up and down", "packed"):
        assert words in page.out
    assert "ragged is left out" in page.err
    assert "add_offset of packed is 'much'" in page.err
    refused = run_here("summarise", "odd.nc", "--variable", "packed", folder=tmp_path)
    assert refused.code == 2 or "packed" in refused.err
    for n, words in ((1, "has missing values"), (0, "has no cells")):
        with netCDF4.Dataset(tmp_path / f"rows{n}.nc", "w") as file:
            add_axes(file, lon=4)
            file.createDimension("lat", n)
            file.createVariable(
                "lat", "f8", ("lat",), fill_value=-9.0
            ).units = "degrees_north"
            file.createVariable("tas", "f4", ("lat", "lon")).units = "K"
        page = run_here("inspect", f"rows{n}.nc", folder=tmp_path)
        assert (page.code, words in page.out) == (0, True), page.err
        drawn = run_here("draw", "map", f"rows{n}.nc", "-o", "map.png", folder=tmp_path)
        assert drawn.code == 3, drawn.err


def test_lists_of_several_lengths_get_a_dimension_of_their_own(tmp_path):
    """Packed, one of them empty, with a value that is missing; lists of wide integers are named."""
    with netCDF4.Dataset(tmp_path / "lists.nc", "w") as file:
        add_axes(file, time=3)
        for kind, parts in (
            ("i2", [[1, 2, 3], [], [7, 4]]),
            ("i8", [[1], [2], [2**60]]),
        ):
            depths = file.createVariable(
                f"depths_{kind}", file.createVLType(kind, kind), ("time",)
            )
            depths.set_auto_maskandscale(False)
            depths.setncatts(
                {"units": "m", "scale_factor": 0.5, "missing_value": np.array(7, kind)}
            )
            for at, part in enumerate(parts):
                depths[at] = np.array(part, kind)
    answer = run_here("convert", "lists.nc", "-o", "rows.csv", folder=tmp_path)
    assert answer.code == 0, answer.err
    assert (
        "depths_i8 is left out, since its values are lists of integers beyond 2^53"
        in answer.err
    )
    lines = (tmp_path / "rows.csv").read_text().splitlines()
    assert lines[0] == "time,depths_i2 [m]"
    expected = ["0.5", "1.0", "1.5", "", "", "", "", "2.0", ""]
    assert [line.split(",")[1] for line in lines[1:]] == expected


LONG = "time,name,lat,lon,x\n2001-01,A,60,5,1\n2001-02,A,61,5,2\n"
WIDE = "name,lat,lon,2001-01,2001-02\nA,60,5,1,2\nB,61,5,1,2\nA,60,5,3,4\n"
TITLED = "name,variable,2001-01,2001-02\nA,x [mm],1,2\nA,x [mm],3,4\n"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (LONG, "in the lines 2 and 3"),
        (WIDE, "in the lines 2 and 4"),
        (TITLED, "lines 2 and 3"),
    ],
    ids=["two places", "wide", "wide with variables"],
)
def test_a_site_described_twice_is_refused(tmp_path, text, words):
    (tmp_path / "table.csv").write_text(text)
    with pytest.raises(DataError, match=words):
        rhodolite.read(tmp_path / "table.csv")


@pytest.mark.parametrize("layout", ["long", "wide"])
def test_tables_carry_the_calendar(tmp_path, layout):
    """30 February comes back, and the trend with it."""
    write_plain(
        tmp_path / "in.nc",
        np.arange(360.0)[:, None, None],
        calendar="360_day",
        units="days since 2001-01-01",
    )
    (tmp_path / "sites.csv").write_text("name,lat,lon\nA,0,0\n")
    words = ("extract", "in.nc", "--points", "sites.csv", "--layout", layout)
    answer = run_here(*words, "-o", "out.csv", folder=tmp_path)
    assert answer.code == 0, answer.err
    axis = rhodolite.read(tmp_path / "out.csv").time
    assert axis.calendar == "360_day"
    assert (axis.dates[59].month, axis.dates[59].day) == (2, 30)


def test_outlines_of_one_name_are_one_area(tmp_path):
    """Two halves of a box weigh as the box, in one row."""
    write_plain(tmp_path / "in.nc", np.arange(24.0).reshape(1, 4, 6))

    def box(west, east):
        ring = [[west, 0], [east, 0], [east, 2], [west, 2], [west, 0]]
        geometry = {"type": "Polygon", "coordinates": [ring]}
        return {
            "type": "Feature",
            "properties": {"name": "basin"},
            "geometry": geometry,
        }

    for name, parts in (("halves", [box(0, 2), box(2, 4)]), ("whole", [box(0, 4)])):
        content = {"type": "FeatureCollection", "features": parts}
        (tmp_path / f"{name}.geojson").write_text(json.dumps(content))
        answer = run_here(
            "summarise",
            "in.nc",
            "--region",
            f"{name}.geojson",
            "-o",
            f"{name}.csv",
            folder=tmp_path,
        )
        assert ("count as one area" in answer.err) == (name == "halves")
    tables = [(tmp_path / f"{name}.csv").read_text() for name in ("halves", "whole")]
    assert tables[0] == tables[1]
    (tmp_path / "layer.gpkg").write_bytes(b"SQLite format 3\x00" + b"[" * 500)
    answer = run_here(
        "summarise", "in.nc", "--region", "layer.gpkg", "-o", "x.csv", folder=tmp_path
    )
    assert "this GeoPackage is damaged" in answer.err


@pytest.mark.parametrize(
    ("coordinates", "words"),
    [
        ({"lat": [60, 62, 61], "lon": [0, 1]}, "go up and down"),
        ({"lat": [60, 61, 61], "lon": [0, 1]}, "61 stands twice"),
        ({"lat": [60, np.nan, 62], "lon": [0, 1]}, "a value is missing"),
        ({"lat": [60, 91, 120], "lon": [0, 1]}, "no latitude"),
        ({"lat": [60, 61, 62], "lon": [0, 360]}, "stands twice"),
    ],
)
def test_arrays_with_coordinates_that_are_none_are_refused(coordinates, words):
    with pytest.raises(DataError, match=words):
        rhodolite.from_arrays(
            {"tas": np.zeros((3, 2))}, coordinates, units={"tas": "K"}
        )


def test_long_axes_of_hours_are_quick_to_describe_and_to_aggregate(tmp_path):
    """263,000 hours: dates are made for what is shown alone, and periods all at once."""
    n = 263_000
    write_plain(
        tmp_path / "hours.nc",
        np.ones((n, 1, 1)),
        units="hours since 1990-01-01",
        chunksizes=(10_000, 1, 1),
    )
    data = rhodolite.read(tmp_path / "hours.nc")
    made = data.aggregate(to="day", min_coverage=0)
    assert len(made.time) == -(-n // 24)
    assert "dates" not in vars(data.time)
    assert "dates" not in vars(made.time)


def test_groups_of_a_store_that_are_left_out_are_named(tmp_path):
    import zarr

    root = zarr.open_group(tmp_path / "s.zarr", mode="w")
    made = root.create_array("x", shape=(3,), dtype="f4", dimension_names=["x"])
    made[:] = [1, 2, 3]
    root.create_group("inner").create_array("y", shape=(2,), dtype="f4")
    with pytest.warns(RhodoliteWarning, match="left out: /inner"):
        rhodolite.read(tmp_path / "s.zarr")


def test_floats_of_every_length_are_read_and_what_is_no_number_is_left_out(tmp_path):
    """The NetCDF library takes those of 16 and 80 bits for text, and reading them as such kills the
    process."""
    halves = np.array([1.5, -2.25, np.nan, 6.1e-5], "f2")
    with h5py.File(tmp_path / "types.h5", "w") as file:
        for name, values in (
            ("half", halves),
            ("extended", halves.astype(np.longdouble)),
        ):
            file[name] = values
            file[name].attrs["units"] = "K"
        file["packed"] = np.array([100, 200], "f2")
        file["packed"].attrs.update(
            {"units": "K", "scale_factor": 0.5, "_FillValue": np.float32(200)}
        )
        file.create_dataset(
            "kinds", data=[0, 1], dtype=h5py.enum_dtype({"a": 0, "b": 1}, "i1")
        )
        file["records"] = np.zeros(4, [("a", "i4"), ("b", "f8")])
        file["opaque"] = np.array([b"abc"] * 4, "V3")
        file.create_dataset("words", data=["a", "b"], dtype=h5py.string_dtype())
    with pytest.warns(RhodoliteWarning, match="records is left out"):
        data = rhodolite.read(tmp_path / "types.h5")
    np.testing.assert_array_equal(data["half"].values(), halves.astype("f4"))
    np.testing.assert_array_equal(data["extended"].values(), halves.astype("f8"))
    np.testing.assert_array_equal(data["packed"].values(), [50, np.nan])
    assert data["kinds"].values().tolist() == [0, 1]
    assert list(data["words"].values()) == ["a", "b"]
    assert "records" not in data


def test_nothing_is_read_that_lies_in_files_nobody_named(tmp_path):
    """External storage, virtual datasets, links out of the file and out of a store."""
    secret = tmp_path / "secret.txt"
    secret.write_bytes(b"0123456789abcdef" * 4)
    with h5py.File(tmp_path / "other.h5", "w") as file:
        file["x"] = np.arange(4.0)
    with h5py.File(tmp_path / "a.h5", "w") as file:
        file["tas"] = np.full(4, 280.0)
        file.create_dataset("stored", (8,), "f8", external=[(str(secret), 0, 64)])
        layout = h5py.VirtualLayout((4,), "f8")
        layout[:] = h5py.VirtualSource(str(tmp_path / "other.h5"), "x", (4,))
        file.create_virtual_dataset("virtual", layout)
    with pytest.warns(RhodoliteWarning, match="which nobody named"):
        data = rhodolite.read(tmp_path / "a.h5")
    assert data["tas"].values().tolist() == [280.0] * 4
    for name in ("stored", "virtual"):
        with pytest.raises(DataError, match="which nobody named"):
            data[name].values()
    with h5py.File(tmp_path / "c.h5", "w") as file:
        file["x"] = np.arange(4.0)
        group = file.create_group("g")
        group["itself"] = group
    with pytest.raises(DataError, match="contains itself"):
        rhodolite.read(tmp_path / "c.h5")
    with h5py.File(tmp_path / "b.h5", "w") as file:
        file["link"] = h5py.ExternalLink(str(tmp_path / "other.h5"), "/x")
    with pytest.raises(DataError, match="is a link to another file"):
        rhodolite.read(tmp_path / "b.h5")
    import zarr

    root = zarr.open_group(tmp_path / "s.zarr", mode="w", zarr_format=2)
    made = root.create_array("x", shape=(4,), chunks=(4,), dtype="f8", compressors=None)
    made[:] = np.arange(4.0)
    made.attrs["_ARRAY_DIMENSIONS"] = ["x"]
    chunk = tmp_path / "s.zarr" / "x" / "0"
    chunk.unlink()
    chunk.symlink_to(secret)
    with pytest.raises(DataError, match="is a link out of the store"):
        rhodolite.read(tmp_path / "s.zarr")["x"].values()


def test_files_are_opened_while_another_is_gone_through(tmp_path):
    """Whoever goes through an HDF5 file holds a lock of its library meanwhile."""
    write_plain(tmp_path / "a.nc", np.ones((1, 2, 3)))
    with h5py.File(tmp_path / "a.nc") as file:
        for stored in file.values():
            unused = [
                h5py.File(tmp_path / "a.nc")
            ]  # freed by whichever thread comes upon it
            unused.append(unused)
            assert rhodolite.read(tmp_path / "a.nc")[stored.name.strip("/")] is not None
