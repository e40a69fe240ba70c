"""What files declare is believed only as far as they, the memory and the disk can hold it."""

from __future__ import annotations

import gzip
import struct
import subprocess
import sys
import threading
import time

import netCDF4
import numpy as np
import pytest
import shapefile
import zarr
from numcodecs import Blosc, GZip, Zstd

from conftest import run_here, write_plain
from rhodolite.errors import DataError
from rhodolite.formats.declared_sizes import zstd_size
from rhodolite.formats.netcdf import watched_call
from rhodolite.formats.netcdf.netcdf3_header import find_values


def _write_sparse(path, shape, chunks):
    with netCDF4.Dataset(path, "w") as file:
        for name, size in zip(("time", "lat", "lon"), shape, strict=True):
            file.createDimension(name, size)
        values = file.createVariable(
            "tas", "f4", ("time", "lat", "lon"), zlib=True, chunksizes=chunks
        )
        values.units = "K"


@pytest.mark.parametrize(
    ("shape", "chunks", "code", "said"),
    [
        ((3, 2**31 - 1, 2**31 - 1), (1, 1000, 1000), 4, "free on its disk"),
        ((2**40, 2**20, 2**20), (1, 1000, 1000), 4, "free on its disk"),
        ((3, 20_000, 26_000), (1, 20_000, 26_000), 3, "--memory 5GiB would do"),
    ],
)
def test_huge_variables_are_inspected_at_once_and_refused_before_they_are_read(
    tmp_path, shape, chunks, code, said
):
    _write_sparse(tmp_path / "a.nc", shape, chunks)
    looked = run_here("inspect", "a.nc", folder=tmp_path)
    assert looked.code == 0 and "tas" in looked.out
    answer = run_here(
        "subset", "a.nc", "-o", "o.nc", "--memory", "500MB", folder=tmp_path
    )
    assert (answer.code, said in answer.err) == (code, True), answer.err
    assert [left.name for left in tmp_path.iterdir()] == ["a.nc"]


def test_axes_that_no_memory_holds_are_refused_by_name(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.createDimension("time", 2**40)
        time = file.createVariable(
            "time", "f8", ("time",), zlib=True, chunksizes=(1 << 20,)
        )
        time.units = "days since 2000-01-01"
        file.createVariable("tas", "f4", ("time",), zlib=True, chunksizes=(1 << 20,))
    answer = run_here("inspect", "a.nc", folder=tmp_path)
    assert answer.code == 3
    assert "time is declared to have 1,099,511,627,776 values" in answer.err


@pytest.mark.parametrize("zarr_format", [2, 3])
def test_endless_arrays_of_a_store_are_refused(tmp_path, zarr_format):
    group = zarr.open_group(tmp_path / "a.zarr", mode="w", zarr_format=zarr_format)
    group.create_array("tas", shape=(2**62, 2**62), chunks=(2**61, 2**61), dtype="f4")
    assert run_here("inspect", "a.zarr", folder=tmp_path).code == 0
    answer = run_here("subset", "a.zarr", "-o", "o.nc", folder=tmp_path)
    assert answer.code in (3, 4) and "internal error" not in answer.err
    for name, size in (("x", 3), ("y", 4)):
        array = group.create_array(name, shape=(size,), chunks=(4,), dtype="f4")
        array.attrs["_ARRAY_DIMENSIONS"] = ["x"]
    answer = run_here("inspect", "a.zarr", folder=tmp_path)
    assert answer.code == 3
    assert "the dimension x has a length of 3 in x and of 4 in y" in answer.err
    group.create_array("rain", shape=(2**70, 0), chunks=(4, 4), dtype="f4")
    answer = run_here("inspect", "a.zarr", folder=tmp_path)
    assert answer.code == 3
    assert (
        "rain is declared to have 1,180,591,620,717,411,303,424 x 0 values"
        in answer.err
    )


@pytest.mark.parametrize(
    ("compressor", "chunk"),
    [
        (GZip(1), gzip.compress(bytes(1 << 24))),
        (Zstd(1), Zstd(1).encode(bytes(1 << 24))),
        (Blosc("lz4"), Blosc("lz4").encode(bytes(1 << 24))),
        (None, bytes(1 << 20)),
    ],
)
def test_chunks_that_unpack_to_more_than_they_may_are_refused_before(
    tmp_path, compressor, chunk
):
    group = zarr.open_group(tmp_path / "a.zarr", mode="w", zarr_format=2)
    stored = group.create_array(
        "tas", shape=(4, 4), chunks=(4, 4), dtype="f4", compressors=compressor
    )
    stored[:] = 1
    (tmp_path / "a.zarr/tas/0.0").write_bytes(chunk)
    answer = run_here("inspect", "a.zarr", "--statistics", folder=tmp_path)
    assert answer.code == 3
    assert (
        "chunk 'tas/0.0' is damaged: it would unpack to more than the 64 bytes"
        in answer.err
    )


@pytest.mark.parametrize("size", [0, 5, 255, 256, 70_000, 1 << 20])
def test_sizes_of_frames_are_those_that_were_packed(size):
    """Against the library that packs them, to the byte."""
    assert zstd_size(Zstd(1).encode(bytes(size))) in ((size,) if size else (0, None))


def test_columns_of_the_same_name_are_refused_and_many_columns_are_read(tmp_path):
    (tmp_path / "a.csv").write_text("date,tas [K],tas [degC]\n2000-01-01,280,7\n")
    answer = run_here("inspect", "a.csv", folder=tmp_path)
    assert answer.code == 3 and "columns 2 and 3 are both called 'tas'" in answer.err
    names = [f"a{at}" for at in range(1500)]
    (tmp_path / "b.csv").write_text(
        f"date,{','.join(names)},,\n2000-01-01,{','.join(map(str, range(1500)))},,\n"
    )
    assert run_here("subset", "b.csv", "-o", "o.nc", folder=tmp_path).code == 0
    with netCDF4.Dataset(tmp_path / "o.nc") as file:
        assert [float(file[name][0]) for name in names] == list(range(1500))


@pytest.mark.parametrize("place", [144, 148])
@pytest.mark.parametrize("count", [2**31 - 2, -5])
def test_outlines_cannot_have_more_points_than_their_file(tmp_path, place, count):
    write_plain(tmp_path / "a.nc", np.ones((1, 4, 4)))
    with shapefile.Writer(str(tmp_path / "r")) as writer:
        writer.field("name", "C")
        writer.poly([[[0, 0], [0, 3], [3, 3], [3, 0], [0, 0]]])
        writer.record("a")
    content = bytearray((tmp_path / "r.shp").read_bytes())
    content[place : place + 4] = struct.pack("<i", count)
    (tmp_path / "r.shp").write_bytes(bytes(content))
    answer = run_here(
        "subset", "a.nc", "--region", "r.shp", "-o", "o.nc", folder=tmp_path
    )
    assert answer.code == 3 and "r.shp: this shapefile is damaged" in answer.err


@pytest.mark.parametrize("name", ["word " * 20_000, "x" * 100_000])
def test_names_of_any_length_leave_room_for_the_picture(tmp_path, name):
    write_plain(tmp_path / "a.nc", np.arange(16.0).reshape(1, 4, 4))
    with netCDF4.Dataset(tmp_path / "a.nc", "a") as file:
        file["tas"].long_name = name
    words = ("draw", "map", "a.nc", "--size", "300x250", "-o", "o.png")
    answer = run_here(*words, "--title", name, folder=tmp_path)
    assert answer.code == 0, answer.err


@pytest.mark.parametrize(
    ("text", "code", "said"),
    [
        (
            "date,a\n2000-01-01,1,2\n2000-01-02,1,2\n",
            3,
            "line 2: the row has more cells than",
        ),
        (
            "date,a\n2000-01-01,1\n2000-01-02,1,2\n",
            3,
            "line 3: the row has more cells than",
        ),
        ('date,"a,b"\n2000-01-01,1,2\n', 3, "line 2: the row has more cells than"),
        ("date,a\n2000-01-01,1,\n2000-01-02,2,\n", 0, "1.5"),
    ],
)
def test_no_cell_of_a_table_is_lost_unnoticed(tmp_path, text, code, said):
    (tmp_path / "a.csv").write_text(text)
    answer = run_here("inspect", "a.csv", "--statistics", folder=tmp_path)
    assert answer.code == code and said in answer.out + answer.err


@pytest.mark.parametrize("count", [3, 10**8, 2**32 - 1])
@pytest.mark.parametrize("word", [8, 12])
def test_a_damaged_classic_header_is_refused_before_the_library_believes_it(
    tmp_path, word, count
):
    """The number of dimensions, and the mark before it."""
    path = write_plain(tmp_path / "a.nc", np.zeros((2, 3, 4)), format="NETCDF3_CLASSIC")
    content = bytearray(path.read_bytes())
    content[word : word + 4] = struct.pack(">I", count)
    path.write_bytes(content)
    answer = run_here("inspect", path, folder=tmp_path)
    assert answer.code == (0 if (word, count) == (12, 3) else 3), answer.err
    # An attribute longer than any file, in the variant that can say so.
    path = write_plain(
        tmp_path / "b.nc", np.zeros((2, 3, 4)), format="NETCDF3_64BIT_DATA"
    )
    content = path.read_bytes()
    at = content.index(b"units\x00\x00\x00") + 12
    path.write_bytes(
        content[:at] + struct.pack(">Q", 2**63 + count) + content[at + 8 :]
    )
    answer = run_here("inspect", path, folder=tmp_path)
    assert (answer.code, "damaged" in answer.err) == (3, True), answer.err


@pytest.mark.skipif(
    not hasattr(time, "pthread_getcpuclockid"), reason="no clocks of threads"
)
def test_a_library_that_goes_round_in_a_circle_is_given_up(tmp_path, monkeypatch):
    ended, left = threading.Event(), []
    monkeypatch.setattr(watched_call, "_SECONDS", 0.1)
    monkeypatch.setattr(watched_call, "_stuck_on", [])
    monkeypatch.setattr(
        watched_call.atexit, "register", lambda *call: left.append(call)
    )
    path = tmp_path / "a.nc"
    path.write_bytes(b"x")

    def go_round():
        while not ended.is_set():
            pass

    try:
        with pytest.raises(DataError, match="does not come to an end"):
            watched_call.call_watched(go_round, path)
        assert left == [(watched_call._leave, 3)]
        with pytest.raises(DataError, match="held up by"):
            watched_call.call_watched(path.read_bytes, path)
    finally:
        ended.set()
    monkeypatch.setattr(watched_call, "_stuck_on", [])
    assert watched_call.call_watched(path.read_bytes, path) == b"x"
    with pytest.raises(ZeroDivisionError):
        watched_call.call_watched(lambda: 1 / 0, path)
    # Waiting costs nothing, however long it takes.
    assert watched_call.call_watched(lambda: time.sleep(0.5), path) is None


def test_a_variable_without_a_name_is_left_out_and_describes_nothing(tmp_path):
    path = write_plain(tmp_path / "a.nc", np.ones((2, 3, 4)), format="NETCDF3_CLASSIC")
    content = path.read_bytes()
    at = content.index(
        struct.pack(">I", 3) + b"lon\x00", content.index(b"degrees_north")
    )
    begin = min(place.offset for place in find_values(path).values())
    header = content[:at] + struct.pack(">I", 0) + content[at + 8 : begin]
    path.write_bytes(header.ljust(begin, b"\x00") + content[begin:])
    answer = run_here("inspect", path, "--statistics", folder=tmp_path)
    assert answer.code == 0
    assert "a variable without a name is left out" in answer.err
    answer = run_here("draw", "map", path, "-o", "a.png", folder=tmp_path)
    assert answer.code == 3


@pytest.mark.parametrize(
    ("fill", "code", "said"), [("\x00nonsense", 0, "left out"), ("-99", 0, "")]
)
def test_a_mark_of_a_store_that_is_no_number_is_left_out(tmp_path, fill, code, said):
    write_plain(tmp_path / "a.nc", np.array([[[1.0, -99.0]]]))
    assert run_here("subset", "a.nc", "-o", "s.zarr", folder=tmp_path).code == 0
    zarr.open_group(tmp_path / "s.zarr", mode="a")["tas"].attrs["_FillValue"] = fill
    answer = run_here("subset", "s.zarr", "-o", "b.nc", folder=tmp_path)
    assert (answer.code, said in answer.err) == (code, True), answer.err
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        assert np.ma.count(file["tas"][:]) == (2 if said else 1)


def test_units_without_a_date_and_dimensions_without_names_are_refused_or_made_up(
    tmp_path,
):
    values = np.zeros((2, 3, 4))
    write_plain(tmp_path / "a.nc", values)
    with netCDF4.Dataset(tmp_path / "a.nc", "a") as file:
        file["time"].setncatts({"units": "days since", "standard_name": "time"})
    answer = run_here("inspect", "a.nc", folder=tmp_path)
    assert (answer.code, "do not say since when" in answer.out) == (0, True), answer.err
    answer = run_here("trend", "a.nc", "-o", "b.nc", folder=tmp_path)
    assert (answer.code, "do not say since when" in answer.err) == (3, True), answer.err
    zarr.save_group(tmp_path / "s.zarr", zarr_format=2, tas=values)
    group = zarr.open_group(tmp_path / "s.zarr", mode="a")
    group["tas"].attrs["_ARRAY_DIMENSIONS"] = [[[[]]], "lat", "lon"]
    answer = run_here("inspect", "s.zarr", folder=tmp_path)
    assert answer.code == 0, answer.err
    assert "tas_axis_0" in answer.out


_INTERRUPTED_WITHIN = """
import _thread, pathlib, sys, threading, time
from h5py._objects import phil
from rhodolite.formats.netcdf import watched_call

watched_call._SECONDS = 1.0

def read():
    with phil:
        threading.Timer(0.2, _thread.interrupt_main).start()
        time.sleep(float(sys.argv[1]))

try:
    watched_call.call_watched(read, pathlib.Path(sys.executable))
except KeyboardInterrupt:
    sys.exit(130)
"""


@pytest.mark.parametrize("seconds", [0.7, 300], ids=["ends", "does not end"])
def test_a_process_ends_that_was_interrupted_while_the_library_held_its_lock(seconds):
    """The library asks for its lock once more at the end of the process."""
    words = [sys.executable, "-c", _INTERRUPTED_WITHIN, str(seconds)]
    assert subprocess.run(words, capture_output=True, timeout=60).returncode == 130
