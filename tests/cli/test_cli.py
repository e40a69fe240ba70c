"""The installed command as people use it: what it prints, what it writes, how it fails."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import netCDF4
import numpy as np
import pytest

from conftest import PATIENCE, run_command, run_here, write_plain
from rhodolite.cli import interruption

NORDIC = "nordic_daily_*.nc"


@pytest.mark.slow
def test_a_chain_is_one_computation_and_gives_the_numbers_of_a_script(demo, tmp_path):
    out = tmp_path / "a.nc"
    answer = run_command(
        "subset",
        NORDIC,
        "--lat",
        "60N..70N",
        "--time",
        "2012..2018",
        "then",
        "anomaly",
        "--base",
        "2012..2016",
        "-o",
        out,
        folder=demo,
    )
    assert (answer.code, answer.out) == (0, "")
    assert answer.err.startswith(f"wrote {out} (")
    values, months, years = [], [], []
    for year in range(2012, 2019):
        with netCDF4.Dataset(demo / f"nordic_daily_{year}.nc") as file:
            time_ = file["time"]
            dates = netCDF4.num2date(time_[:], time_.units, time_.calendar)
            months += [d.month for d in dates]
            years += [d.year for d in dates]
            values.append(file["tas"][:, 12:33, :].filled(np.nan).astype("f8"))
    values, months, years = np.concatenate(values), np.array(months), np.array(years)
    with netCDF4.Dataset(out) as file:
        for month in (1, 7, 12):
            normal = values[(months == month) & (years <= 2016)].mean(axis=0)
            np.testing.assert_allclose(
                file["tas"][:][months == month],
                values[months == month] - normal,
                atol=2e-6,
            )
        assert file["lat"][:].tolist() == np.arange(60, 70.5, 0.5).tolist()
        assert file.Conventions == "CF-1.11, ACDD-1.3"
        assert file["time"].bounds == "time_bnds"
        assert file["time_bnds"].shape == (2557, 2)
        assert file["tas"].filters()["zlib"]
        assert (
            "rhodolite 0.1.0: subset 'nordic_daily_*.nc' --lat 60N..70N" in file.history
        )
        assert file.history.endswith("--time 2012..2018 then anomaly --base 2012..2016")
        assert file["tas"].standard_name == "air_temperature_anomaly"


@pytest.mark.slow
def test_history_grows_by_a_line_a_step(demo, tmp_path):
    fixed = {"SOURCE_DATE_EPOCH": "0"}
    run_command(
        "subset",
        demo / "pressure_monthly.nc",
        "--variable",
        "ta",
        "-o",
        tmp_path / "a.nc",
        **fixed,
    )
    run_command(
        "subset",
        tmp_path / "a.nc",
        "--level",
        "850hPa",
        "-o",
        tmp_path / "b.nc",
        **fixed,
    )
    with netCDF4.Dataset(tmp_path / "b.nc") as file:
        assert file.history.splitlines() == [
            "made by rhodolite demo",
            f"1970-01-01T00:00:00Z rhodolite 0.1.0: subset {demo / 'pressure_monthly.nc'} "
            "--variable ta",
            f"1970-01-01T00:00:00Z rhodolite 0.1.0: subset {tmp_path / 'a.nc'} --level 850hPa",
        ]


@pytest.mark.slow
def test_inspect_reads_as_people_speak(demo, tmp_path):
    page = run_here("inspect", NORDIC, folder=demo).out
    for words in (
        "(10 files, NetCDF-4, ",
        "54N..72N, 0E..40E",
        "grid of 0.5 degrees, 37 latitudes x 81 longitudes",
        "2009-01-01 to 2018-12-31",
        "3,652 steps, every day, no gaps",
        "standard calendar",
        "no vertical axis",
        "tas       near-surface air temperature  K           time, lat, lon  float32",
    ):
        assert words in page
    run_here(
        "subset",
        "pressure_monthly.nc",
        "--at",
        "61N,10E",
        "-o",
        tmp_path / "cell.nc",
        folder=demo,
    )
    assert (
        "\nWhere    one cell, 62.5N, 12.5E\n"
        in run_here("inspect", tmp_path / "cell.nc").out
    )
    gap = run_here(
        "inspect", *(demo / f"nordic_daily_{year}.nc" for year in (2009, 2011))
    ).out
    assert "every day, 365 left out: 2009-12-31 12:00 to 2011-01-01 12:00" in gap
    levels = run_here("inspect", demo / "pressure_monthly.nc").out
    assert "1000, 925, 850, 700, 600, 500, 400, 300, 250, 200, 100, 50 hPa" in levels
    assert "longitudes are counted -180..180" in levels


@pytest.mark.slow
def test_inspect_for_machines_agrees_with_the_data(demo):
    source = demo / "garnet_monthly_1981-2020.nc"
    found = json.loads(run_command("inspect", source, "--statistics", "--json").out)
    assert found["where"]["latitude"] == {
        "name": "lat",
        "count": 72,
        "spacing": 2.5,
        "direction": "decreasing",
        "bounds": True,
    }
    assert found["where"]["convention"] == "0..360"
    assert found["when"]["count"] == 480
    with netCDF4.Dataset(source) as file:
        tas = file["tas"][:]
    tas_found = found["variables"][0]["statistics"]
    assert tas_found["missing"] == tas.mask.sum() == 480 * 60
    assert tas_found["missing_share"] == tas.mask.mean()
    assert (tas_found["minimum"], tas_found["maximum"]) == pytest.approx(
        (tas.min(), tas.max())
    )
    assert found["variables"][0]["packing"] == {"scale": 0.0025, "offset": 265.0}
    one = json.loads(
        run_command("inspect", source, "--variable", "air_temperature", "--json").out
    )
    assert one["storage"]["chunks"] == [48, 72, 144]
    assert one["storage"]["compression"] == ["shuffle", "deflate 4"]
    assert [c["role"] for c in one["coordinates"]] == ["time", "latitude", "longitude"]


def test_attributes_of_single_precision_are_shown_in_its_digits(tmp_path):
    write_plain(tmp_path / "x.nc", np.zeros((2, 3, 4)))
    with netCDF4.Dataset(tmp_path / "x.nc", "a") as file:
        limits = {"limits": np.array([0.1, 278.61], "f4"), "top": np.float32(1e20)}
        file["tas"].setncatts(limits)
    words = ("inspect", tmp_path / "x.nc", "--variable", "tas")
    attributes = json.loads(run_here(*words, "--json").out)["attributes"]
    assert (attributes["limits"], attributes["top"]) == ([0.1, 278.61], 1e20)
    assert "[0.1, 278.61]" in run_here(*words).out


@pytest.mark.slow
def test_positions_and_negative_numbers_as_they_are_typed(demo, tmp_path):
    source = demo / "pressure_monthly.nc"
    for number, words in enumerate(
        (
            ["--lat", "-35..10", "--lon", "-20..30"],
            ["--lon=-20..30", "--lat", "35S..10N"],
        )
    ):
        assert (
            run_command(
                "subset",
                source,
                *words,
                "-o",
                tmp_path / f"{number}.nc",
                SOURCE_DATE_EPOCH="0",
            ).code
            == 0
        )
    with (
        netCDF4.Dataset(tmp_path / "0.nc") as a,
        netCDF4.Dataset(tmp_path / "1.nc") as b,
    ):
        np.testing.assert_array_equal(a["ta"][:], b["ta"][:])
        assert a["lon"][:].tolist() == np.arange(-17.5, 30, 5).tolist()
    answer = run_command(
        "subset", source, "--at", "-33.9,18.4", "-o", tmp_path / "x.nc"
    )
    assert (answer.code, answer.err) == (
        2,
        "rhodolite: --at: '-33.9,18.4' does not say which number is the latitude; "
        "write 33.9S,18.4E or 18.4N,33.9W\n",
    )


@pytest.mark.parametrize(
    ("words", "code", "message"),
    [
        (
            ["bogus"],
            2,
            "no verb 'bogus'. There are: inspect, check, join, build, subset",
        ),
        (["subset", "-o", "x.nc"], 2, "no input"),
        (["subset", "{p}"], 2, "no output; add -o FILE, such as -o result.nc"),
        (
            ["subset", "{p}", "--latt", "1..2"],
            2,
            "subset has no option --latt. Did you mean --lat or --at?",
        ),
        (
            ["subset", "{p}", "then", "then", "anomaly"],
            2,
            "'then' stands between two steps",
        ),
        (
            ["subset", "{p}", "then", "-o", "x.nc"],
            2,
            "'-o' stands where a verb belongs",
        ),
        (
            ["subset", "{p}", "then", "anomaly", "{p}", "-o", "x.nc"],
            2,
            "inputs are named in the first step only",
        ),
        (
            ["draw", "map", "{p}", "then", "subset", "-o", "x.nc"],
            2,
            "draw is the last step",
        ),
        (
            ["draw", "globe", "{p}"],
            2,
            "no drawing 'globe'. There are: map, panels, series, years",
        ),
        (
            ["draw", "map", "{p}", "-o", "x.nc"],
            2,
            "a drawing is written as one of .png, .svg, .pdf",
        ),
        (["subset", "{p}", "-o", "x.png"], 2, "this suffix is for figures"),
        (["subset", "{p}", "-o", "x.doc"], 2, "the suffix '.doc' names no format"),
        (
            ["subset", "{p}", "--memory", "lots", "-o", "x.nc"],
            2,
            "write it like 512MiB or 2GiB",
        ),
        (["subset", "{p}", "--lat", "10N..35S", "-o", "x.nc"], 2, "write it 35S..10N"),
        (
            ["subset", "{p}", "--variable", "tas", "-o", "x.nc"],
            3,
            "no variable 'tas'. Did you mean ta?",
        ),
        (
            ["subset", "{p}", "--level", "840hPa", "-o", "x.nc"],
            3,
            "The nearest is 850.",
        ),
        (
            ["subset", "{p}", "--time", "1990", "-o", "x.nc"],
            3,
            "the data hold 24, from 2017-01-01 to 2018-12-31",
        ),
        (
            ["subset", "nowhere.nc", "-o", "x.nc"],
            3,
            "nowhere.nc: there is no such file",
        ),
        (["subset", "*.grib", "-o", "x.nc"], 3, "no file fits this pattern"),
        (["inspect", "words.nc"], 3, "this is not a gridded dataset"),
        (["inspect", "empty.nc"], 3, "the file is empty"),
        (["inspect", "short.nc"], 3, "the file is cut short: 100,000 of 2,4"),
        (["inspect", "."], 3, "this is a folder; name the files in it"),
        (
            ["subset", "{p}", "-o", "old.nc"],
            4,
            "exists already; choose another name or add --overwrite",
        ),
        (
            ["subset", "old.nc", "-o", "old.nc", "--overwrite"],
            4,
            "this is also an input",
        ),
        (
            ["subset", "old.nc", "-o", "link.nc", "--overwrite"],
            4,
            "this is also an input",
        ),
        (["subset", "{p}", "-o", "none/x.nc"], 4, "there is no folder"),
        (["subset", "{p}", "-o", "/proc/x.nc"], 4, "/proc/x.nc: cannot be written"),
        (
            ["inspect", "damaged.nc", "--statistics"],
            3,
            "variable 'va' is damaged: the chunk that begins at index (0, 0,",
        ),
    ],
)
def test_what_goes_wrong_is_told_in_a_line_or_two_with_its_exit_code(
    demo, tmp_path, words, code, message
):
    source = demo / "pressure_monthly.nc"
    content = source.read_bytes()
    (tmp_path / "words.nc").write_text("these are words\n")
    (tmp_path / "empty.nc").touch()
    (tmp_path / "short.nc").write_bytes(content[:100_000])
    (tmp_path / "damaged.nc").write_bytes(
        content[:1_500_000] + bytes(5000) + content[1_505_000:]
    )
    write_plain(tmp_path / "old.nc", np.zeros((2, 2, 2)))
    (tmp_path / "link.nc").symlink_to(tmp_path / "old.nc")
    before = sorted(tmp_path.iterdir())
    answer = run_here(*(w.format(p=source) for w in words), folder=tmp_path)
    assert answer.code == code, answer.err
    assert message in answer.err
    assert answer.err.count("\n") <= 2
    assert "Traceback" not in answer.err
    assert sorted(tmp_path.iterdir()) == before


@pytest.mark.slow
def test_an_output_is_replaced_only_when_asked(demo, tmp_path):
    out = tmp_path / "a.nc"
    out.write_text("precious")
    words = ["subset", demo / "pressure_monthly.nc", "--level", "850hPa", "-o", out]
    assert run_command(*words).code == 4
    assert out.read_text() == "precious"
    assert run_command(*words, "--overwrite", "--quiet").err == ""
    with netCDF4.Dataset(out) as file:
        assert file["plev"][:].tolist() == [850]


def test_a_failure_on_the_way_leaves_the_old_output_and_nothing_else(demo, tmp_path):
    damaged = tmp_path / "damaged.nc"
    content = (demo / "pressure_monthly.nc").read_bytes()
    damaged.write_bytes(content[:1_500_000] + bytes(5000) + content[1_505_000:])
    out = tmp_path / "a.nc"
    out.write_text("precious")
    assert run_command("subset", damaged, "-o", out, "--overwrite").code == 3
    assert out.read_text() == "precious"
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.nc", "damaged.nc"]


def test_no_interruption_comes_while_work_is_handed_over(monkeypatch):
    """There it would leave a lock taken, for which the thread waits forever; it comes later."""
    later = []
    monkeypatch.setattr(signal, "setitimer", lambda *when: later.append(when))

    class Idle:
        @staticmethod
        def acquire(**_):
            interruption._interrupt(signal.SIGINT, sys._getframe())
            return True

        @staticmethod
        def release():
            pass

    with ThreadPoolExecutor(1) as pool:
        pool.submit(int).result()
        pool._idle_semaphore = Idle
        assert pool.submit(int).result() == 0
    assert len(later) == 1
    with pytest.raises(KeyboardInterrupt):
        interruption._interrupt(signal.SIGINT, sys._getframe())


@pytest.mark.slow
@pytest.mark.parametrize("stop", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_an_interrupted_write_leaves_no_file_behind(tmp_path, rng, stop):
    source = write_plain(
        tmp_path / "a.nc", rng.normal(size=(1500, 100, 200)), contiguous=True
    )
    command = [
        str(Path(sys.executable).with_name("rhodolite")),
        "anomaly",
        "a.nc",
        "-o",
        "b.nc",
        "--workers",
        "1",
        "--memory",
        "1MiB",
    ]  # many small blocks, so that it takes a while
    running = subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True)
    until = time.monotonic() + 60
    while (
        running.poll() is None
        and not list(tmp_path.glob(".b.*"))
        and time.monotonic() < until
    ):
        time.sleep(0.005)
    running.send_signal(stop)
    _, err = running.communicate(timeout=PATIENCE)
    assert (running.returncode, err) == (
        130,
        "rhodolite: interrupted; nothing half-written was left\n",
    )
    assert list(tmp_path.iterdir()) == [source]


@pytest.mark.skipif(
    not hasattr(signal, "setitimer"), reason="imports are cut off there"
)
def test_an_import_is_not_cut_off_by_an_interruption(tmp_path):
    """Which would leave a lock of the interpreter taken for ever."""
    (tmp_path / "slow.py").write_text(
        "import os, signal\nos.kill(os.getpid(), signal.SIGTERM)\ncomplete = sum(range(10**6))\n"
    )
    script = (
        "import time\n"
        "from rhodolite.cli.interruption import catch_interruptions\n"
        "catch_interruptions()\n"
        "try:\n"
        "    import slow\n"
        "    print('imported', slow.complete > 0)\n"
        "    time.sleep(60)\n"
        "except KeyboardInterrupt:\n"
        "    print('interrupted')\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], cwd=tmp_path, capture_output=True, text=True
    )
    assert (done.stdout.split("\n")[:2], done.returncode) == (
        ["imported True", "interrupted"],
        0,
    )


@pytest.mark.slow
def test_warnings_come_once_at_the_end_and_quiet_hides_them(tmp_path, rng):
    values = rng.normal(280, 1, (1096, 4, 5))
    values[:200, 1, 1] = np.nan
    write_plain(tmp_path / "a.nc", values)
    answer = run_command("anomaly", "a.nc", "-o", "b.nc", folder=tmp_path)
    assert answer.code == 0
    assert answer.err.splitlines()[1:] == [
        "warning: tas, 2000..2002: 6 of 240 normals are missing, since too few values are there; "
        "--min-coverage changes how many are needed"
    ]
    assert (
        run_command("anomaly", "a.nc", "-o", "c.nc", "--quiet", folder=tmp_path).err
        == ""
    )


def test_the_reader_of_our_output_may_go_away(demo):
    command = (
        f"{Path(sys.executable).with_name('rhodolite')} inspect {demo}/pressure_monthly.nc "
        "--json | head -1"
    )
    done = subprocess.run(
        ["bash", "-o", "pipefail", "-c", command], capture_output=True, text=True
    )
    assert (done.returncode, done.stdout, done.stderr) == (0, "{\n", "")


def test_the_package_runs_as_a_module():
    done = subprocess.run(
        [sys.executable, "-m", "rhodolite", "--version"], capture_output=True, text=True
    )
    assert done.stdout == "rhodolite 0.1.0\n"


@pytest.mark.slow
def test_memory_stays_within_what_is_allowed(tmp_path):
    """300 MB of compressed data through an anomaly, within 64 MiB of blocks and the libraries' own
    size."""
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, n, units in (
            ("time", 2000, "days since 2000-01-01"),
            ("lat", 150, "degrees_north"),
            ("lon", 250, "degrees_east"),
        ):
            file.createDimension(name, n)
            file.createVariable(name, "f8", (name,)).units = units
            file[name][:] = np.arange(n) * (0.5 if name == "lat" else 1)
        made = file.createVariable(
            "tas",
            "f4",
            ("time", "lat", "lon"),
            compression="zlib",
            complevel=1,
            chunksizes=(1, 150, 250),
        )
        for step in range(2000):
            made[step] = step % 7
    script = (
        "import os, sys; pid = os.spawnv(os.P_NOWAIT, sys.argv[1], sys.argv[1:]); "
        "print(os.wait4(pid, 0)[2].ru_maxrss)"
    )
    command = [
        sys.executable,
        "-c",
        script,
        str(Path(sys.executable).with_name("rhodolite")),
        "anomaly",
        "a.nc",
        "-o",
        "b.nc",
        "--memory",
        "64MiB",
    ]
    done = subprocess.run(
        command, cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert int(done.stdout) / 1024 < 64 + 200


@pytest.mark.slow
def test_demo_refuses_to_write_over_what_is_there(demo):
    answer = run_command("demo", demo, "--data-only")
    assert answer.code == 4
    assert "exists already" in answer.err


@pytest.mark.parametrize("words", ["anomaly", "join --chunks series --memory 2MiB"])
def test_a_full_disk_leaves_nothing_behind(demo, tmp_path, words):
    tool = Path(sys.executable).with_name("rhodolite")
    command = f"ulimit -f 400; {tool} {words} '{demo}/nordic_daily_201[0-3].nc' -o a.nc"
    done = subprocess.run(
        ["bash", "-c", command], cwd=tmp_path, capture_output=True, text=True
    )
    assert done.returncode == 4
    assert "cannot be written" in done.stderr or "scratch space" in done.stderr, (
        done.stderr
    )
    assert list(tmp_path.iterdir()) == []


@pytest.mark.slow
def test_a_plan_says_what_would_be_done_and_does_nothing(demo, tmp_path):
    words = ["anomaly", NORDIC, "--cycle", "season", "-o", tmp_path / "a.nc", "--plan"]
    answer = run_here(*words, folder=demo)
    assert (answer.code, answer.err, list(tmp_path.iterdir())) == (0, "", [])
    lines = answer.out.splitlines()
    (tmp_path / "a.nc").write_text("what is there")
    there = run_here(*words, folder=demo)
    assert (there.code, (tmp_path / "a.nc").read_text()) == (0, "what is there")
    assert there.out.endswith(
        "a.nc exists already; add --overwrite to have it replaced.\n"
    )
    assert "exists already" not in run_here(*words, "--overwrite", folder=demo).out
    (tmp_path / "a.nc").unlink()
    assert [line.split("  ")[0:2] for line in lines[1:5]] == [
        ["1", "reducing"],
        ["2", "reducing"],
        ["3", "writing tas"],
        ["4", "writing pr"],
    ]
    size = 3652 * 37 * 81 * 4 / 1e6
    assert all(f"{size:.3g} MB" in line for line in lines[1:5])
    assert "of memory at most (1.07 GB for data are allowed)" in lines[5]
    across = run_here(
        "join",
        NORDIC,
        "--chunks",
        "series",
        "--memory",
        "4MiB",
        "-o",
        tmp_path / "a.nc",
        "--plan",
        folder=demo,
    )
    assert "rechunking to scratch" in across.out
    figure = run_here(
        "draw",
        "series",
        NORDIC,
        "--variable",
        "tas",
        "-o",
        tmp_path / "a.png",
        "--plan",
        folder=demo,
    )
    assert (
        figure.code,
        f"reading  {size:.3g} MB" in figure.out,
        list(tmp_path.iterdir()),
    ) == (
        0,
        True,
        [],
    ), figure.out
    assert (
        run_here("join", NORDIC, "-o", tmp_path / "a.toml", "--plan", folder=demo).code
        == 2
    )


def test_fifty_steps_are_one_computation(demo, tmp_path):
    words = [
        "subset",
        demo / "pressure_monthly.nc",
        "--variable",
        "ta",
        "--level",
        "500hPa",
    ]
    for _ in range(25):
        words += [
            "then",
            "convert",
            "--units",
            "ta=degC",
            "then",
            "convert",
            "--units",
            "ta=K",
        ]
    answer = run_command(*words, "-o", tmp_path / "a.nc")
    assert answer.code == 0, answer.err
    with (
        netCDF4.Dataset(tmp_path / "a.nc") as out,
        netCDF4.Dataset(demo / "pressure_monthly.nc") as source,
    ):
        np.testing.assert_allclose(out["ta"][:, 0], source["ta"][:, 5], rtol=1e-5)


@pytest.mark.slow
def test_output_that_cannot_be_encoded_ends_no_command(tmp_path, rng):
    """With a stream of ASCII, as some pipes are; signs of numbers that programs read are plain
    anyway."""
    path = write_plain(
        tmp_path / "a.nc",
        rng.normal(size=(30, 1, 1)) - np.arange(30).reshape(-1, 1, 1),
        times=np.arange(30) * 365.25,
        attributes={"units": "K", "long_name": "température"},
    )
    for words in (["inspect", path], ["trend", path]):
        answer = run_command(
            *words, PYTHONIOENCODING="ascii:strict", PYTHONUTF8="0", LC_ALL="C"
        )
        assert answer.code == 0, answer.err
    assert "-10" in run_command("trend", path).out
