"""The way in and out of the program: opening, atomic outputs, progress, and the Python face."""

from __future__ import annotations

import datetime
import os
import pty
import shlex
import subprocess
import sys
import time
from pathlib import Path

import netCDF4
import numpy as np
import pytest
import zarr

import rhodolite
from conftest import make_dataset, run_command, run_here, write_plain
from rhodolite.arrays.sizes import parse_memory, parse_workers
from rhodolite.cli import console
from rhodolite.drawing.parts.time_axis import labels, plot_days
from rhodolite.errors import DataError, OutputError, UsageError, nearest_names
from rhodolite.formats.atomic_output import complete_or_nothing
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.pipeline.provenance import sentence


def test_an_output_appears_whole_or_not_at_all(tmp_path):
    out = tmp_path / "a.nc"
    for failure in (ValueError, KeyboardInterrupt, DataError):
        with pytest.raises(failure), complete_or_nothing(out, False, ()) as temporary:
            temporary.write_text("half")
            assert temporary.suffix == ".nc"
            raise failure
        assert list(tmp_path.iterdir()) == []
    with complete_or_nothing(out, False, ()) as temporary:
        temporary.write_text("whole")
        assert not out.exists()
    assert out.read_text() == "whole"
    with pytest.raises(OutputError, match="appeared while it was being written"):  # noqa: SIM117
        with complete_or_nothing(tmp_path / "b.nc", False, ()) as temporary:
            temporary.write_text("mine")
            (tmp_path / "b.nc").write_text("another's")
    assert (tmp_path / "b.nc").read_text() == "another's"


def test_a_full_disk_ends_with_exit_code_4_and_leaves_nothing(demo):
    """A file system of 1 MB takes the place of a full disk, where the machine lets one be made."""
    folder = Path("/tmp") / f"rhodolite-full-{os.getpid()}"
    folder.mkdir()
    made = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", folder], capture_output=True
    )
    try:
        if made.returncode:
            pytest.skip("no file system can be mounted here")
        answer = run_command(
            "subset", demo / "nordic_daily_2010.nc", "-o", folder / "a.nc"
        )
        assert answer.code == 4
        assert f"{folder}/a.nc: cannot be written" in answer.err
        assert list(folder.iterdir()) == []
    finally:
        if not made.returncode:
            subprocess.run(["umount", folder], check=True)
        folder.rmdir()


def test_inputs_are_told_from_each_other_and_from_nothing(tmp_path, demo):
    with pytest.raises(UsageError, match="name the files to read"):
        rhodolite.read([])
    with pytest.raises(DataError, match=r"there is no folder .*nowhere"):
        rhodolite.read(tmp_path / "nowhere" / "a.nc")
    with pytest.raises(DataError, match=r"Did you mean nordic_daily_2018\.nc"):
        rhodolite.read(demo / "nordic_daily_2019.nc")
    twice = rhodolite.read([demo / "pressure_monthly.nc", str(demo / "pressure*.nc")])
    assert twice.lengths["time"] == 24
    assert nearest_names("x", []) == "There are none."


def test_python_writes_what_it_read_and_keeps_the_record(demo, tmp_path, monkeypatch):
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "86400")
    data = rhodolite.Subset(level="500hPa", lat="0..")(
        rhodolite.read(demo / "pressure_monthly.nc")
    )
    assert (
        sentence(data)
        == f"subset {demo / 'pressure_monthly.nc'} --lat 0N.. --level 500hPa"
    )
    rhodolite.write(data, tmp_path / "a.nc", workers=1, memory=1 << 20)
    with pytest.raises(OutputError, match="exists already"):
        rhodolite.write(data, tmp_path / "a.nc")
    again = rhodolite.read(tmp_path / "a.nc")
    np.testing.assert_array_equal(again["ta"].values(), data["ta"].values())
    with pytest.raises(OutputError, match="this is also an input"):
        rhodolite.write(again, tmp_path / "a.nc", overwrite=True)
    with netCDF4.Dataset(tmp_path / "a.nc") as file:
        assert file.history.splitlines()[1:] == [
            f"1970-01-02T00:00:00Z rhodolite 0.1.0: {sentence(data)}"
        ]
        assert (file["plev"].positive, file["lat"].bounds) == ("down", "lat_bnds")
    with pytest.raises(AttributeError, match="has no attribute 'nothing'"):
        rhodolite.nothing  # noqa: B018
    assert all(getattr(rhodolite, name) is not None for name in rhodolite.__all__)


def test_extents_are_those_of_what_is_written_and_not_of_the_input(demo, tmp_path):
    data = rhodolite.read(demo / "pressure_monthly.nc")
    rhodolite.write(data, tmp_path / "a.nc")
    part = rhodolite.Subset(
        lat="10N..50N", lon="20W..20E", level="850hPa,500hPa", time="2017-03..2017-04"
    )
    rhodolite.write(part(rhodolite.read(tmp_path / "a.nc")), tmp_path / "b.nc")
    with (
        netCDF4.Dataset(tmp_path / "a.nc") as whole,
        netCDF4.Dataset(tmp_path / "b.nc") as few,
    ):
        assert (whole.geospatial_lat_min, whole.geospatial_lat_max) == (-90, 90)
        assert whole.geospatial_lat_units == "degrees_north"
        assert (whole.time_coverage_start, whole.time_coverage_end) == (
            "2017-01-01T00:00:00",
            "2019-01-01T00:00:00",
        )
        assert (few.geospatial_lat_min, few.geospatial_lat_max) == (10, 50)
        assert (few.geospatial_lon_min, few.geospatial_lon_max) == (-20, 20)
        assert (few.geospatial_vertical_min, few.geospatial_vertical_max) == (500, 850)
        assert (few.geospatial_vertical_units, few.geospatial_vertical_positive) == (
            "hPa",
            "down",
        )
        assert (few.time_coverage_start, few.time_coverage_end) == (
            "2017-03-01T00:00:00",
            "2017-05-01T00:00:00",
        )
        assert few.date_created in few.history


def test_what_python_made_without_files_can_be_written(tmp_path):
    rhodolite.write(make_dataset(np.ones((2, 3, 4))), tmp_path / "a.nc")
    assert (
        rhodolite.read(tmp_path / "a.nc")
        .attributes["history"]
        .endswith("rhodolite 0.1.0: written")
    )


@pytest.mark.slow
def test_progress_is_shown_on_a_terminal_after_a_while_and_never_in_a_pipe(
    tmp_path, rng, monkeypatch
):
    monkeypatch.setattr(console, "_DELAY", 0.0)
    write_plain(
        tmp_path / "a.nc",
        rng.normal(size=(800, 60, 80)).astype("f4"),
        compression="zlib",
        chunksizes=(1, 60, 80),
    )
    script = (
        "from rhodolite.cli import console, main; console._DELAY = 0; import sys; "
        "sys.exit(main.main(sys.argv[1:]))"
    )
    command = [
        sys.executable,
        "-c",
        script,
        "anomaly",
        "a.nc",
        "-o",
        "b.nc",
        "--overwrite",
        "--memory",
        "2MiB",
    ]
    piped = subprocess.run(
        [*command, "--min-coverage", "0"], cwd=tmp_path, capture_output=True, text=True
    )
    assert piped.stderr.startswith("wrote b.nc")
    ours, theirs = pty.openpty()
    child = subprocess.Popen(
        [*command, "--min-coverage", "0"],
        cwd=tmp_path,
        stderr=theirs,
        env={**os.environ, "TERM": "xterm", "COLUMNS": "60"},
    )
    os.close(theirs)
    shown = b""
    until = time.monotonic() + 60
    while time.monotonic() < until:
        try:
            if not (part := os.read(ours, 65536)):
                break
        except OSError:  # the terminal has closed
            break
        shown += part
    assert child.wait() == 0
    text = shown.decode()
    assert "reducing" in text
    assert "writing tas" in text
    assert "%" in text
    assert "wrote b.nc" in text.splitlines()[-1]


def test_debug_shows_where_and_internal_errors_ask_for_a_report(tmp_path):
    answer = run_command("inspect", tmp_path / "a.nc", "--debug")
    assert answer.code == 3
    assert "Traceback" in answer.err
    script = (
        "import sys; from rhodolite.cli import main; import rhodolite.formats.open as o\n"
        "def broken(*_, **__): raise ZeroDivisionError('oh')\n"
        "o.open_dataset = broken; sys.exit(main.main(['inspect', 'a.nc', *sys.argv[1:]]))"
    )
    command = [sys.executable, "-c", script]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 1
    assert done.stderr == (
        "rhodolite: internal error: ZeroDivisionError: oh. Please report it; --debug prints the "
        "traceback, and --report FILE writes a diagnostic report\n"
    )
    report = tmp_path / "r.txt"
    done = subprocess.run(
        [*command, "--report", report], capture_output=True, text=True
    )
    assert f"its report is in {report}; send it along" in done.stderr
    written = report.read_text()
    assert (
        "rhodolite inspect a.nc" in written
        and "in broken" in written
        and "numpy" in written
    )


@pytest.mark.parametrize("library", ["netCDF4", "cf_units", "h5py"])
def test_a_library_that_cannot_be_loaded_is_said_to_be_that(demo, tmp_path, library):
    (tmp_path / f"{library}.py").write_text(
        "raise ImportError('libsome.so.3: not found')"
    )
    program = Path(sys.executable).with_name("rhodolite")
    done = subprocess.run(
        [program, "inspect", demo / "garnet_monthly_1981-2020.nc"],
        env={**os.environ, "PYTHONPATH": str(tmp_path)},
        capture_output=True,
        text=True,
    )
    assert done.returncode == 1
    assert (
        f"the library {library} cannot be loaded: libsome.so.3: not found"
        in done.stderr
    )


@pytest.mark.slow
def test_hundreds_of_steps_follow_each_other(tmp_path):
    write_plain(tmp_path / "a.nc", np.ones((2, 3, 4)), attributes={"units": "K"})
    line = ["convert", "a.nc", "--units", "degC"]
    for step in range(399):
        line += ["then", "convert", "--units", "degC" if step % 2 else "K"]
    answer = run_here(*line, "-o", "b.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        np.testing.assert_allclose(file["tas"][:], 1, atol=1e-3)  # in K again
    answer = run_here(
        *line,
        *(["then", "convert", "--units", "K"] * 200),
        "-o",
        "c.nc",
        folder=tmp_path,
    )
    assert (answer.code, "at most 500 may" in answer.err) == (2, True)


def test_sizes_and_counts_as_they_are_typed():
    assert [parse_memory(text) for text in ("512MiB", "1GB", "2g", "1048576")] == [
        1 << 29,
        1 << 30,
        2 << 30,
        1 << 20,
    ]
    assert parse_workers("3") == 3
    for text in ("0", "-1", "two"):
        with pytest.raises(UsageError, match="is not a number of workers"):
            parse_workers(text)
    assert [console.file_size(n) for n in (12, 1500, 31_457_280)] == [
        "12 B",
        "1.5 kB",
        "31.5 MB",
    ]


def test_dates_on_an_axis_say_only_what_is_new():
    def written(*texts):
        return labels([datetime.datetime.fromisoformat(text) for text in texts])

    assert written("2001-01-01", "2003-01-01") == ["2001", "2003"]
    assert written("2001-11-01", "2001-12-01", "2002-01-01") == [
        "Nov\n2001",
        "Dec",
        "Jan\n2002",
    ]
    assert written("2001-01-30", "2001-02-01") == ["30\nJan 2001", "1\nFeb 2001"]
    assert written("2001-01-30T06:00", "2001-01-30T12:00") == [
        "30, 06:00\nJan 2001",
        "30, 12:00",
    ]


def test_every_calendar_has_its_place_on_the_axis():
    days = np.arange(0, 720, 30.0)
    for calendar in ("standard", "noleap", "360_day", "julian"):
        axis = TimeAxis(days, "days since 2001-01-01", calendar)
        placed = plot_days(axis)
        assert (np.diff(placed) > 0).all()
        year = (datetime.datetime(2002, 1, 1) - datetime.datetime(1970, 1, 1)).days
        # 360 days on: the turn of the year, give or take, and the middle of a step of 30 days.
        assert placed[12] == pytest.approx(year + 15, abs=6)


@pytest.mark.slow
def test_what_is_left_of_chunks_is_put_together(tmp_path):
    """A cell of hourly maps, its bounds and its times come in few chunks, in NetCDF as in Zarr."""
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, n in (("time", None), ("lat", 20), ("lon", 30), ("b", 2)):
            file.createDimension(name, n)
        for name in ("lat", "lon"):
            file.createVariable(name, "f8", (name,))[:] = np.arange(
                file.dimensions[name].size
            )
        file["lat"].units, file["lon"].units = "degrees_north", "degrees_east"
        file.createVariable("time", "f8", ("time",)).setncatts(
            {"units": "hours since 2000-01-01", "bounds": "time_bnds"}
        )
        file.createVariable("time_bnds", "f8", ("time", "b"))
        file.createVariable(
            "tas", "f4", ("time", "lat", "lon"), chunksizes=(1, 20, 30)
        ).units = "K"
        file["time"][:] = np.arange(800) + 0.5
        file["time_bnds"][:] = np.arange(800)[:, None] + [0, 1]
        file["tas"][:] = np.random.default_rng(0).random((800, 20, 30))
    for more in ([], ["--chunks", "map"], ["--unlimited"]):
        answer = run_here(
            "subset",
            "a.nc",
            "--at",
            "3N,4E",
            *more,
            "-o",
            "b.nc",
            "--overwrite",
            folder=tmp_path,
        )
        assert answer.code == 0, answer.err
        with netCDF4.Dataset(tmp_path / "b.nc") as file:
            for name in ("time", "time_bnds", *(() if "map" in more else ("tas",))):
                chunks = file[name].chunking()
                assert chunks == "contiguous" or chunks[0] >= 800, (name, chunks)
        assert (
            more == ["--chunks", "map"] or (tmp_path / "b.nc").stat().st_size < 60_000
        )
    assert (
        run_here(
            "subset", "a.nc", "--at", "3N,4E", "-o", "b.zarr", folder=tmp_path
        ).code
        == 0
    )
    assert sum(path.is_file() for path in (tmp_path / "b.zarr").rglob("*")) < 30
    part = rhodolite.read(tmp_path / "b.zarr")["tas"].values()
    np.testing.assert_array_equal(
        part, rhodolite.read(tmp_path / "a.nc")["tas"].values()[:, 3:4, 4:5]
    )


def test_a_dataset_says_what_it_holds_for_those_who_look_for_it(tmp_path):
    """ACDD 1.3, kept true by a later step; what the makers have said themselves stays."""
    path = write_plain(
        tmp_path / "a.nc", np.ones((48, 2, 2)), times=np.arange(48) * 30.4375 + 15
    )
    with netCDF4.Dataset(path, "a") as file:
        file.source = "a simulation"
    assert (
        run_here(
            "subset", path, "--time", "2000..2002", "-o", "b.nc", folder=tmp_path
        ).code
        == 0
    )
    assert (
        run_here("subset", "b.nc", "--time", "2001", "-o", "c.nc", folder=tmp_path).code
        == 0
    )
    with netCDF4.Dataset(tmp_path / "c.nc") as file:
        assert file.Conventions == "CF-1.11, ACDD-1.3"
        assert file.summary == "Holds air temperature, from 2001-01-01 to 2001-12-31."
        assert (file.keywords, file.keywords_vocabulary) == (
            "air_temperature",
            "CF Standard Names",
        )
        assert (file.time_coverage_duration, file.time_coverage_resolution) == (
            "P1Y",
            "P1M",
        )
        assert file["tas"].coverage_content_type == "modelResult"
        assert file["lat"].coverage_content_type == "coordinate"
    (tmp_path / "e.nc").write_bytes((tmp_path / "b.nc").read_bytes())
    with netCDF4.Dataset(tmp_path / "e.nc", "a") as file:
        file.summary, file.keywords, file.keywords_vocabulary = "Mine.", "warm", "ours"
    assert (
        run_here("subset", "e.nc", "--time", "2001", "-o", "d.nc", folder=tmp_path).code
        == 0
    )
    with netCDF4.Dataset(tmp_path / "d.nc") as file:
        assert (file.summary, file.keywords, file.keywords_vocabulary) == (
            "Mine.",
            "warm",
            "ours",
        )


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("aggregate --to year", "temperature: on_scale"),
        ("climatology --statistic p90", "temperature: on_scale"),
        ("climatology --statistic std", "temperature: difference"),
        ("aggregate --to year --statistic range", "temperature: difference"),
        ("summarise --over time --statistic std", "temperature: difference"),
        ("climatology --statistic variance", None),
        ("summarise --over time --statistic variance", None),
        ("aggregate --to year --statistic 'count-above 280K'", None),
        ("anomaly", "temperature: difference"),
        ("anomaly --kind standardised", None),
        ("detrend", "temperature: difference"),
        ("accumulate", None),
        ("trend", None),
    ],
)
def test_temperatures_are_said_to_be_on_the_scale_or_differences(tmp_path, words, said):
    """CF 3.1.2, also where the input says it already."""
    values = np.random.default_rng(1).normal(280, 3, (60, 2, 2))
    path = write_plain(tmp_path / "a.nc", values, times=np.arange(60) * 30.4375 + 15)
    with netCDF4.Dataset(path, "a") as file:
        file["tas"].units_metadata = "temperature: on_scale"
    verb, *rest = shlex.split(words)
    answer = run_here(verb, path, *rest, "-o", "b.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        found = {
            v.name: getattr(v, "units_metadata", None) for v in file.variables.values()
        }
    name = next(name for name in found if name.startswith("tas"))
    assert found[name] == said


def test_positions_are_said_to_be_on_the_sphere_they_are_on(demo, tmp_path):
    with netCDF4.Dataset(demo / "rotated_monthly.nc") as source:
        mapping = source["rotated_pole"].__dict__
    (tmp_path / "a.nc").write_bytes((demo / "rotated_monthly.nc").read_bytes())
    with netCDF4.Dataset(tmp_path / "a.nc", "a") as file:
        file["rotated_pole"].setncatts({**mapping, "earth_radius": 6371229.0})
    answer = run_here("regrid", "a.nc", "--to", "2", "-o", "b.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        assert file["ta"].grid_mapping == "crs"
        assert file["crs"].grid_mapping_name == "latitude_longitude"
        assert file["crs"].earth_radius == 6371229.0
    path = write_plain(tmp_path / "c.nc", np.ones((1, 2, 2)))
    assert run_here("subset", path, "-o", "c.asc", folder=tmp_path).code == 0
    text = (tmp_path / "c.prj").read_text()
    crs = pytest.importorskip("pyproj").CRS.from_wkt(text)
    assert crs.is_geographic
    assert crs.ellipsoid.semi_major_metre == 6378137
    assert crs.ellipsoid.inverse_flattening == pytest.approx(298.257223563)


@pytest.mark.parametrize("variant", ["zarr2", "zarr3"])
def test_metadata_of_a_store_are_gathered_in_one_place(tmp_path, variant):
    path = write_plain(tmp_path / "a.nc", np.ones((3, 2, 2)))
    words = ("subset", path, "-o", "a.zarr", "--format", variant)
    assert run_here(*words, folder=tmp_path).code == 0
    group = zarr.open_consolidated(str(tmp_path / "a.zarr"))
    assert set(group.array_keys()) == {"time", "lat", "lon", "tas"}
    np.testing.assert_array_equal(group["tas"][:], 1)
