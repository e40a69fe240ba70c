"""Compressed files and archives, and what is recognised and not read."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import shutil
import tarfile
import zipfile

import numpy as np
import pyarrow
import pytest

import rhodolite
from conftest import run_here, write_plain
from rhodolite import DataError
from rhodolite.formats import compressed


class Zstandard:
    """As the modules of the standard library compress."""

    @staticmethod
    def compress(content):
        return bytes(pyarrow.compress(content, "zstd", asbytes=True))


@pytest.fixture
def folder(tmp_path, rng):
    for year in (2000, 2001):
        values = rng.normal(280, 5, (12, 3, 4)).astype("f4")
        times = np.arange(12) * 30.0
        units = f"days since {year}-01-05"
        write_plain(tmp_path / f"{year}.nc", values, times=times, units=units)
    return tmp_path


def _archive(path, members):
    if path.suffix == ".zip":
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in members.items():
                archive.writestr(name, content)
        return
    with tarfile.open(path, "w:gz" if path.suffix == ".gz" else "w") as archive:
        for name, content in members.items():
            about = tarfile.TarInfo(name)
            about.size = len(content)
            archive.addfile(about, io.BytesIO(content))
    if path.suffix == ".zst":
        path.write_bytes(Zstandard.compress(path.read_bytes()))


def _values(path):
    return rhodolite.read(path)["tas"].values()


@pytest.mark.parametrize(
    ("ending", "module"),
    [(".gz", gzip), (".bz2", bz2), (".xz", lzma), (".zst", Zstandard)],
)
def test_a_compressed_file_is_what_is_in_it(folder, ending, module):
    plain = (folder / "2000.nc").read_bytes()
    packed = folder / f"2000.nc{ending}"
    packed.write_bytes(module.compress(plain))
    np.testing.assert_array_equal(_values(packed), _values(folder / "2000.nc"))
    both = _values([packed, folder / "2001.nc"])
    np.testing.assert_array_equal(
        both, _values([folder / "2000.nc", folder / "2001.nc"])
    )
    words = ("summarise", packed.name, "-o", "o.nc")
    assert run_here(*words, folder=folder).code == 0
    assert packed.name in rhodolite.read(folder / "o.nc").attributes["history"]
    assert (
        run_here("retrace", "o.nc", "--verify", folder=folder).out
        == f"{packed.name}: the same\n"
    )
    again = (
        "subset",
        packed.name,
        "--overwrite",
        "-o",
        packed.name.replace(ending, ".zarr"),
    )
    assert run_here(*again, folder=folder).code == 0
    whole = module.compress(plain)
    packed.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(DataError, match=r"this is damaged, or ends too early"):
        rhodolite.read(packed)


@pytest.mark.parametrize("name", ["all.zip", "all.tar", "all.tar.gz", "all.tar.zst"])
def test_an_archive_is_the_dataset_that_its_files_form(folder, name):
    """Wherever the names in it lead, and whatever text lies beside."""
    contents = {
        f"../../{year}.nc": (folder / f"{year}.nc").read_bytes()
        for year in (2001, 2000)
    }
    outside = set(folder.parent.iterdir())
    _archive(
        folder / name, {"about.txt": b"made up", "/x/._2000.nc": b"mac", **contents}
    )
    expected = _values([folder / "2000.nc", folder / "2001.nc"])
    np.testing.assert_array_equal(_values(folder / name), expected)
    assert set(folder.parent.iterdir()) == outside
    _archive(folder / name, {"about.bin": b"\0\1\2"})
    with pytest.raises(
        DataError, match=rf"{name}, in it about.bin: this is not a gridded dataset"
    ):
        rhodolite.read(folder / name)
    _archive(folder / name, {})
    with pytest.raises(
        DataError, match=r"there is no file in it|not a gridded dataset"
    ):
        rhodolite.read(folder / name)
    if name == "all.zip":
        _archive(folder / "all.xlsx", {})
        _archive(folder / name, {"[Content_Types].xml": b"<x/>", "sheet.xml": b"<x/>"})
        with pytest.raises(DataError, match=r"document .* save its table as CSV"):
            rhodolite.read((folder / name).rename(folder / "all.xlsx"))


def test_what_unpacks_to_more_than_the_disk_holds_is_refused(folder, monkeypatch):
    (folder / "bomb.nc.gz").write_bytes(gzip.compress(bytes(30 << 20)))
    room = compressed.shutil._ntuple_diskusage(100 << 20, 80 << 20, 20 << 20)
    monkeypatch.setattr(compressed.shutil, "disk_usage", lambda _: room)
    with pytest.raises(
        DataError, match=r"takes more than 15.7 MB.* name a larger one with --scr"
    ):
        rhodolite.read(folder / "bomb.nc.gz")


@pytest.mark.parametrize(
    ("start", "said"),
    [
        (b"BUFR\0\0\0\2", "a BUFR file, which is not read"),
        (b"SQLite format 3\0", "a database"),
        (b"PAR1\x15\x04", r"a\.nc: cannot be read"),
        (
            b"<!DOCTYPE html><title>Log in",
            "a message of a web server.* may have failed",
        ),
        (b'{"error": "no such file"}', "a message of a web server"),
        (b"\x01\x02\x03\x04", r"not a gridded dataset \(it begins with"),
    ],
)
def test_what_is_not_read_is_named(tmp_path, start, said):
    (tmp_path / "a.nc").write_bytes(start + bytes(300))
    with pytest.raises(DataError, match=said):
        rhodolite.read(tmp_path / "a.nc")


def test_a_store_at_the_top_of_an_archive_is_read_as_a_store(folder):
    run_here("subset", folder / "2000.nc", "-o", folder / "a.zarr")
    packed = shutil.make_archive(str(folder / "a.zarr"), "zip", folder / "a.zarr")
    np.testing.assert_array_equal(_values(packed), _values(folder / "2000.nc"))
