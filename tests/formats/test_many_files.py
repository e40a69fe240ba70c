"""Many files opened together: from their headers, from what is known of them, one by one."""

from __future__ import annotations

import os
import shutil
import sqlite3
import stat

import netCDF4
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite.formats.concatenate
import rhodolite.formats.many_files
import rhodolite.formats.netcdf.reader
from conftest import run_here
from rhodolite.errors import DataError, RhodoliteWarning
from rhodolite.formats.header_cache import HeaderCache, user_cache, without_cache
from rhodolite.formats.headers import processes
from rhodolite.formats.headers.processes import HeaderReaders
from rhodolite.formats.netcdf import header_text
from rhodolite.formats.netcdf.reader import read as read_netcdf
from rhodolite.formats.open import open_dataset
from rhodolite.formats.reading_rules import ReadingRules, reading_by
from rhodolite.trusted import is_trusted


def _write(path, start, steps=2, kind="i2", form="NETCDF4", **attributes):
    rng = np.random.default_rng(start)
    path.unlink(missing_ok=True)
    with netCDF4.Dataset(path, "w", format=form) as file:
        file.setncatts({"title": "days", "made": f"on day {start}", **attributes})
        for name, size in (
            ("time", steps),
            ("lat", 3),
            ("lon", 4),
            ("nv", 2),
            ("letters", 5),
        ):
            file.createDimension(name, size)
        time = file.createVariable("time", "i4", ("time",))
        time.setncatts({"units": "days since 2001-01-01", "bounds": "time_bnds"})
        time[:] = start + np.arange(steps)
        bounds = file.createVariable("time_bnds", "f8", ("time", "nv"))
        bounds[:] = start + np.arange(steps)[:, None] + [-0.5, 0.5]
        for name, values in (("lat", [-40.0, 0, 40]), ("lon", [0.0, 90, 180, 270])):
            axis = file.createVariable(name, "f8", (name,))
            axis.units = {"lat": "degrees_north", "lon": "degrees_east"}[name]
            axis[:] = values
        file.createVariable("height", "f4", ())[...] = 2.0
        word = file.createVariable("word", "S1", ("letters",))
        word[:] = np.array(list("hello"), "S1")
        field = file.createVariable(
            "tas", kind, ("time", "lat", "lon"), fill_value=-999
        )
        field.setncatts({"units": "K", "valid_min": np.dtype(kind).type(-500)})
        if kind == "i2":
            field.setncatts({"scale_factor": np.float32(0.01), "add_offset": 280.0})
        field.set_auto_maskandscale(False)
        field[:] = rng.integers(-600, 500, (steps, 3, 4))
    return path


def _told(dataset):
    """All that there is to know of a dataset, and which numbers are where."""
    return {
        name: (
            v.dimensions,
            v.data.dtype,
            {key: (type(value), str(value)) for key, value in v.attributes.items()},
            repr(v.storage),
            v.missing,
            v.values().tolist() if v.data.dtype == object else v.values().tobytes(),
        )
        for name, v in dataset.variables.items()
    } | {"": ({k: str(v) for k, v in dataset.attributes.items()}, dataset.unlimited)}


@pytest.mark.parametrize("form", ["NETCDF4", "NETCDF3_CLASSIC"])
@pytest.mark.parametrize("kind", ["i2", "f4", "i4"])
def test_a_file_opened_from_the_text_of_its_header_is_the_same(tmp_path, kind, form):
    path = _write(
        tmp_path / "a.nc", 5, kind=kind, form=form, list=np.arange(3), one=np.float32(2)
    )
    read = read_netcdf(path)
    opened = header_text.open_header(header_text.describe_header(read), path)
    assert _told(opened) == _told(read)
    assert [str(file) for file in opened.files] == [str(path)]


@settings(max_examples=12)
@given(
    steps=st.lists(st.integers(1, 3), min_size=20, max_size=24),
    order=st.randoms(use_true_random=False),
    odd=st.sampled_from(["", "units", "overlap", "type"]),
)
@pytest.mark.long
def test_known_files_are_joined_as_those_that_are_compared_one_by_one(
    tmp_path_factory, steps, order, odd
):
    folder = tmp_path_factory.mktemp("many")
    starts = np.concatenate([[0], np.cumsum(steps)[:-1]])
    files = [
        _write(folder / f"{at:02d}.nc", int(start), count)
        for at, (start, count) in enumerate(zip(starts, steps, strict=True))
    ]
    if odd == "type":
        _write(files[7], int(starts[7]), steps[7], kind="f4")
    elif odd == "overlap":
        _write(files[7], int(starts[7]), steps[7] + 1)
    elif odd == "units":
        with netCDF4.Dataset(files[7], "a") as file:
            file["tas"].units = "degC"
    order.shuffle(files)

    def outcome():
        try:
            return _told(open_dataset(files))
        except DataError as error:
            return str(error)

    with without_cache():
        expected = outcome()
    assert isinstance(expected, str) == (odd in ("units", "overlap"))
    assert outcome() == expected  # and now they are known
    assert outcome() == expected
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(
            rhodolite.formats.concatenate, "join_like_the_first", lambda _: None
        )
        assert outcome() == expected


@pytest.fixture
def files(tmp_path):
    return [_write(tmp_path / f"d_{at:02d}.nc", 2 * at) for at in range(25)]


@pytest.mark.parametrize("together", [3, 500])
@pytest.mark.parametrize("count", [4, 25])
def test_all_files_that_cannot_be_read_are_named_at_once(
    files, monkeypatch, count, together
):
    monkeypatch.setattr(rhodolite.formats.many_files, "_TOGETHER", together)
    monkeypatch.setattr(rhodolite.formats.many_files, "_MOST_NAMED", 2)
    some = files[:count]
    for at in (1, 2, count - 1):
        some[at].write_bytes(some[at].read_bytes()[:200])
    with pytest.raises(DataError) as refused:
        open_dataset(some)
    first, *lines = str(refused.value).splitlines()
    assert first == "3 files cannot be read (--skip-unreadable leaves such out):"
    assert [line.strip().split(":")[0] for line in lines[:2]] == [
        str(path) for path in some[1:3]
    ]
    assert lines[2:] == ["  and 1 more"]
    with (
        pytest.warns(
            RhodoliteWarning,
            match=rf"left out.* 3 of {count} files\n  .*{some[1].name}",
        ),
        reading_by(ReadingRules(skip_unreadable=True)),
    ):
        rest = open_dataset(some)
    assert [file.path for file in rest.files] == [
        path for at, path in enumerate(some) if at not in (1, 2, count - 1)
    ]


def _refuse(*_):
    raise AssertionError("the library opens a file")


def test_what_is_known_is_not_read_again_unless_it_has_changed(files, monkeypatch):
    before = _told(open_dataset(files))
    with monkeypatch.context() as patch:
        patch.setattr(rhodolite.formats.netcdf.reader, "call_watched", _refuse)
        assert len(_told(open_dataset(files))) == len(before)
        with without_cache(), pytest.raises(AssertionError):
            open_dataset(files)
    _write(files[3], 6, title="other days")
    os.utime(files[3], ns=(1, files[3].stat().st_mtime_ns + 1))
    assert "title" not in open_dataset(files).attributes
    user_cache().path.write_bytes(b"SQLite format 3\x00" + b"\xff" * 5000)
    assert _told(open_dataset(files))["lat"] == before["lat"]
    user_cache().path.unlink()


@pytest.mark.skipif(os.name != "posix", reason="files have modes")
def test_what_another_user_could_have_written_is_not_read(files):
    """Neither of the cache of headers nor of compiled kernels."""
    cache = user_cache().path
    cache.unlink(missing_ok=True)
    expected = _told(open_dataset(files))
    assert stat.S_IMODE(cache.stat().st_mode) == 0o600
    places = [(path, None) for path in files]
    assert len(user_cache().find(places)) == len(files)
    for place, mode in ((cache, 0o602), (cache.parent, 0o777)):
        before = stat.S_IMODE(place.stat().st_mode)
        place.chmod(mode)
        with pytest.warns(
            RhodoliteWarning, match="others can write to it, so it is not read"
        ):
            assert user_cache().find(places) == {}
        place.chmod(before)
    assert _told(open_dataset(files)) == expected
    cache.unlink()


@pytest.mark.parametrize(
    ("mode", "private"), [(0o700, True), (0o755, True), (0o777, False)]
)
def test_a_place_is_trusted_where_others_cannot_write(tmp_path, mode, private):
    folder = tmp_path / "kept"
    folder.mkdir()
    folder.chmod(mode)
    assert is_trusted(folder) == is_trusted(folder / "file") == private
    (tmp_path / "link").symlink_to(folder)
    assert not is_trusted(tmp_path / "link")


def test_a_collection_carries_headers_that_move_with_it(tmp_path, files, monkeypatch):
    user_cache().path.unlink(missing_ok=True)
    answer = run_here("join", "d_*.nc", "--headers", "-o", "all.toml", folder=tmp_path)
    assert answer.code == 0, answer.err
    expected = _told(open_dataset(tmp_path / "all.toml"))
    moved = tmp_path / "moved"
    moved.mkdir()
    for path in [*files, tmp_path / "all.toml", tmp_path / "all.headers"]:
        shutil.copy2(path, moved)
    user_cache().path.unlink(missing_ok=True)
    with monkeypatch.context() as patch:
        patch.setattr(rhodolite.formats.netcdf.reader, "call_watched", _refuse)
        assert _told(open_dataset(moved / "all.toml")) == expected
    answer = run_here("join", "d_*.nc", "--headers", "-o", "all.nc", folder=tmp_path)
    assert (answer.code, "--headers is for collections" in answer.err) == (2, True)


@pytest.mark.parametrize("text", ["", '["[1, []]", 3]', "[" * 5000, '["[9, []]", {}]'])
def test_headers_that_are_none_are_read_from_the_files(tmp_path, files, text):
    cache = HeaderCache(tmp_path / "all.headers", folder=tmp_path)
    cache.keep([(cache.key((path, None)), text) for path in files])
    (tmp_path / "all.toml").write_text(
        '[collection]\nfiles = ["d_*.nc"]\nheaders = "all.headers"\n'
    )
    user_cache().path.unlink(missing_ok=True)
    assert _told(open_dataset(tmp_path / "all.toml")) == _told(open_dataset(files))
    with sqlite3.connect(cache.path) as database:
        database.execute("UPDATE texts SET text = x'789c'")
    assert _told(open_dataset(tmp_path / "all.toml")) == _told(open_dataset(files))


def test_a_folder_that_cannot_be_written_to_costs_nothing_but_time(files, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", "/dev/null/nowhere")
    assert len(open_dataset(files).need_time()) == 50


def test_headers_read_by_other_processes_are_the_same(files, monkeypatch):
    odd = _write(files[7], 14, kind="f4")
    monkeypatch.chdir(odd.parent)
    (odd.parent / "json.py").write_text(
        "raise SystemExit"
    )  # is not taken for the library
    with without_cache():
        expected = _told(open_dataset(files))
    user_cache().path.unlink(missing_ok=True)
    monkeypatch.setattr(rhodolite.formats.many_files, "FEWEST", 20)
    monkeypatch.setattr(processes, "usable_cores", lambda: 2)
    asked = []
    describe = HeaderReaders.describe
    monkeypatch.setattr(
        HeaderReaders, "describe", lambda *a: asked.append(describe(*a)) or asked[-1]
    )
    with monkeypatch.context() as patch:
        patch.setattr(rhodolite.formats.netcdf.reader, "call_watched", _refuse)
        assert _told(open_dataset(files)) == expected
    assert [len(texts) for texts in asked] == [25]
    user_cache().path.unlink()
    odd.write_bytes(odd.read_bytes()[:300])
    with pytest.raises(DataError, match=r"d_07\.nc"):
        open_dataset(files)


@pytest.mark.parametrize("at", [0, 3])
def test_a_process_that_dies_leaves_its_files_to_be_read_here(files, monkeypatch, at):
    with without_cache():
        expected = _told(open_dataset(files))
    user_cache().path.unlink(missing_ok=True)
    monkeypatch.setattr(rhodolite.formats.many_files, "FEWEST", 20)
    monkeypatch.setattr(processes, "usable_cores", lambda: 2)
    ask = processes._ask

    def killed(process, places):
        found = ask(process, places[:at])
        process.kill()
        return found + ask(process, places[at:])

    monkeypatch.setattr(processes, "_ask", killed)
    assert _told(open_dataset(files)) == expected
