"""The Python face: methods, arrays and tables, what prints, and what type checkers see."""

from __future__ import annotations

import datetime
import inspect
import json
import pickle
import re
import subprocess
import sys
from pathlib import Path

import cftime
import matplotlib as mpl
import numpy as np
import pandas as pd
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp
from tools.make_man import make_man
from tools.make_stub import TARGET, make_formatted

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import DataError, UsageError
from rhodolite.drawing import SUMMARIES as DRAWINGS
from rhodolite.drawing import all_drawings
from rhodolite.operations import all_operations
from rhodolite.operations.declaration import parameters

ROOT = Path(__file__).parents[2]
TIMES = np.array(["2001-01-01", "2001-01-02", "2001-01-03"], dtype="M8[D]")
GRID = {"time": TIMES, "lat": np.arange(4.0), "lon": np.arange(5.0)}


def test_generated_signatures_and_the_manual_page_are_fresh():
    assert TARGET.read_text(encoding="utf-8") == make_formatted(), "run make docs"
    assert (ROOT / "docs" / "rhodolite.1").read_text(encoding="utf-8") == make_man(), (
        "make docs"
    )


def test_every_verb_is_a_method_with_the_parameters_of_its_declaration():
    steps = {
        **all_operations(),
        **{f"draw_{kind}": c for kind, c in all_drawings().items()},
    }
    for name, cls in steps.items():
        declared = [one.field for one in parameters(cls)]
        drawn = ["axes"] if name.startswith("draw_") else []
        signature = inspect.signature(getattr(rhodolite.Dataset, name))
        assert list(signature.parameters) == ["self", *declared, *drawn]
    summaries = {
        kind: " ".join(cls.__doc__.split()) for kind, cls in all_drawings().items()
    }
    assert all(summaries[kind].startswith(text) for kind, text in DRAWINGS.items())
    assert set(dir(rhodolite)) == set(rhodolite.__all__)
    assert all(hasattr(rhodolite, name) for name in dir(rhodolite))


def test_verbs_keep_the_type_and_a_step_alone_reads_nothing(demo):
    data = rhodolite.read(demo / "nordic_daily_2018.nc")
    part = data.subset(variable="tas", time="2018-01..2018-02", region="Norway")
    doubled = part.calc(formula="tas * 2", name="x")
    for result in (part, part.aggregate(to="month"), part.summarise(), doubled):
        assert type(result) is rhodolite.Dataset
    made = rhodolite.from_arrays({"x": np.ones(3)}, {"time": TIMES}, units={"x": "K"})
    assert type(made.convert(stamp="end")) is rhodolite.Dataset
    step = rhodolite.Summarise(region="Norway")
    np.testing.assert_array_equal(
        part.apply(step)["tas"].values(),
        part.summarise(region="Norway")["tas"].values(),
    )
    with pytest.raises(UsageError, match=r"what region names .* data.summarise\(...\)"):
        step(part)


def test_modules_are_imported_by_name_in_registries_alone():
    source = ROOT / "src" / "rhodolite"
    by_name = {
        str(path.relative_to(source))
        for path in source.rglob("*.py")
        if "import_module(" in path.read_text(encoding="utf-8")
    }
    registries = ["", "drawing/", "operations/", "cli/verbs/"]
    assert by_name == {f"{room}__init__.py" for room in registries} | {
        "formats/registry.py"
    }


@pytest.mark.slow
@pytest.mark.long
def test_type_checkers_know_the_methods(tmp_path):
    script = tmp_path / "example.py"
    script.write_text(
        "import rhodolite\n"
        "data = rhodolite.read('a.nc').subset(lat='60N..70N', years=2014).anomaly(kind='percent')\n"
        "data.write('b.nc', compression='small')\n"
        "reveal_type(data)\n"
        "data.anomaly(kind='per cent')\n"
        "data.subset(latt='60N')\n"
        "reveal_type(3 - data['tas'] > 2)\n"
    )
    words = [
        sys.executable,
        "-m",
        "mypy",
        "--cache-dir",
        str(tmp_path / "c"),
        str(script),
    ]
    done = subprocess.run(words, capture_output=True, text=True, cwd=tmp_path)
    assert 'Revealed type is "rhodolite.api.dataset.Dataset"' in done.stdout, (
        done.stdout
    )
    assert ':7: note: Revealed type is "rhodolite.api.variable.Variable"' in done.stdout
    assert re.search(r':5: error: Argument "kind" .* incompatible type', done.stdout)
    assert ':6: error: Unexpected keyword argument "latt"' in done.stdout
    assert "Found 2 errors" in done.stdout


@pytest.mark.slow
def test_the_worked_session_runs(demo, tmp_path):
    page = (ROOT / "docs" / "python.md").read_text(encoding="utf-8")
    session = "\n".join(re.findall(r"```python\n(.*?)```", page, re.DOTALL))
    (tmp_path / "demo").symlink_to(demo)
    words = [sys.executable, "-W", "ignore", "-c", session]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert "Did you mean tas?" in done.stdout.splitlines()[-1]
    for name in ("by_country.csv", "anomaly.nc", "both.png", "january.png", "made.nc"):
        assert (tmp_path / name).stat().st_size > 1000


def test_a_dataset_shows_what_inspect_shows(demo):
    path = demo / "nordic_daily_2018.nc"
    data = rhodolite.read(path)
    assert f"{data}\n" == run_here("inspect", path).out
    assert (
        str(data.title if hasattr(data, "title") else data).splitlines()[0]
        in data._repr_html_()
    )
    assert repr(data) == "<Dataset tas, pr: time 365, bnds 2, lat 37, lon 81>"
    assert repr(data["tas"]) == "<Variable tas (K): time 365, lat 37, lon 81>"
    assert "units: K" in str(data["tas"])
    assert data.inspect()["variables"][0]["name"] == "tas"
    assert (data == data, data != rhodolite.read(path), bool(data)) == (
        True,
        True,
        True,
    )
    copy = pickle.loads(pickle.dumps(data.subset(variable="tas", time="2018-01-01")))
    np.testing.assert_array_equal(copy["tas"], data["tas"].values()[:1])


def test_methods_write_what_commands_write(demo, tmp_path):
    path = demo / "nordic_daily_2018.nc"
    data = rhodolite.read(path)
    data.subset(variable="pr", region=demo / "catchment.geojson").summarise().write(
        tmp_path / "a.csv", memory="64MiB"
    )
    line = [
        "--variable",
        "pr",
        "--region",
        demo / "catchment.geojson",
        "then",
        "summarise",
    ]
    assert run_here("subset", path, *line, "-o", tmp_path / "b.csv").code == 0
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()
    wide = data.subset(variable="tas", time="2018-01").extract(
        points=demo / "reservoirs.csv", layout="wide"
    )
    wide.write(tmp_path / "wide.csv")
    assert (tmp_path / "wide.csv").read_text().splitlines()[0].count("2018-01-") == 31
    data.regrid(to=2, save_weights=str(tmp_path / "w.nc")).write(tmp_path / "c.nc")
    again = data.regrid(weights=tmp_path / "w.nc")
    np.testing.assert_array_equal(
        again["tas"], rhodolite.read(tmp_path / "c.nc")["tas"]
    )


def test_pictures_go_into_axes_of_ones_own(demo):
    mpl.use("Agg")
    import matplotlib.pyplot as plt

    data = rhodolite.read(demo / "nordic_daily_2018.nc").subset(
        variable="tas", time="2018-01"
    )
    figure, (left, right) = plt.subplots(1, 2, figsize=(12, 5))
    assert data.draw_map(axes=left) is figure
    data.summarise().draw_series(axes=right)
    assert "Near-surface air temperature" in left.get_title(loc="left")
    assert len(right.get_lines()) == 1
    with pytest.raises(UsageError, match="several panels"):
        data.draw_panels(axes=left)
    plt.close(figure)
    alone = data.draw_map()
    assert alone._repr_png_().startswith(b"\x89PNG")  # which notebooks show


NUMBERS = st.sampled_from(["f4", "f8", ">f4", "i1", "i2", "i8", "u2", "u8", "?"])


@pytest.mark.slow
@given(st.data(), NUMBERS, st.booleans())
def test_arrays_of_any_type_come_back_from_a_file(tmp_path_factory, data, kind, masked):
    """What is masked or NaN is missing after a way through NetCDF; all else keeps its value."""
    values = data.draw(hnp.arrays(kind, (3, 4, 5)))
    mask = (
        data.draw(hnp.arrays("?", (3, 4, 5)))
        if masked
        else np.zeros((3, 4, 5), dtype=bool)
    )
    given_values = np.ma.array(values, mask=mask) if masked else values
    made = rhodolite.from_arrays({"x": given_values}, GRID, units={"x": "1"})
    path = tmp_path_factory.mktemp("a") / "a.nc"
    made.write(path)
    back = rhodolite.read(path)["x"]
    found = np.asarray(
        back.floats().read((slice(0, 3), slice(0, 4), slice(0, 5))), dtype=float
    )
    missing = mask | (np.isnan(values) if values.dtype.kind == "f" else False)
    np.testing.assert_array_equal(np.isnan(found), missing)
    expected = values.astype(float)
    tolerance = 1e-15 if kind in ("i8", "u8") else 0  # more digits than a float64 holds
    np.testing.assert_allclose(found[~missing], expected[~missing], rtol=tolerance)


def test_dates_of_every_kind_keep_their_moment():
    hours = np.array(["2001-01-01T06", "2001-01-01T18"], dtype="M8[h]")
    odd = np.array(["2001-01-01T06:00:00.250", "2001-01-02"], dtype="M8[ms]")
    old = np.array(["1500-03-01", "1500-03-02"], dtype="M8[D]")
    noleap = [cftime.DatetimeNoLeap(2004, 2, 28), cftime.DatetimeNoLeap(2004, 3, 1)]
    for dates, unit, calendar in (
        (TIMES, "days", "standard"),
        (hours, "hours", "standard"),
        (odd, "milliseconds", "standard"),
        (old, "days", "proleptic_gregorian"),
        (noleap, "days", "noleap"),
    ):
        steps = np.arange(len(dates))
        made = rhodolite.from_arrays({"x": steps}, {"time": dates}, units={"x": "1"})
        assert made["time"].units.startswith(f"{unit} since")
        assert made.time.calendar == calendar
        shown = [str(date)[:10] for date in made.time.dates]
        assert shown == [str(date)[:10] for date in dates]


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        (
            {"fields": {"t": np.zeros((3, 5, 4))}},
            r"fits \(time, lon, lat\) and not \(time, lat",
        ),
        (
            {"fields": {"t": np.zeros((3, 4, 6))}},
            "t: 6 values along lon, and the coordinate has 5",
        ),
        (
            {"fields": {"t": np.zeros((3, 4))}},
            "2 dimensions, and there are 3 coordinates",
        ),
        (
            {"fields": {"lat": np.zeros((3, 4, 5))}},
            "lat is given as a field and as a coordinate",
        ),
        ({"units": {}}, r"t: no units are given; write units=\{'t': 'K'\}"),
        (
            {"units": {"t": "K", "u": "K"}},
            "'u', which is neither a field nor a coordinate",
        ),
        (
            {"units": {"t": "Kelvins per"}},
            "UDUNITS does not know the units 'Kelvins per'",
        ),
        (
            {"fields": {"t": np.zeros((3, 4, 5), complex)}},
            "type complex128; a field holds numbers",
        ),
        ({"dimensions": ("time", "lat", "x")}, "there is no coordinate 'x'"),
        (
            {"coordinates": {**GRID, "time": np.array(["NaT"] * 3, "M8[D]")}},
            "a date is missing",
        ),
        ({"fields": {}}, "no field is given"),
    ],
)
def test_arrays_that_do_not_fit_are_named_with_what_would(changes, message):
    given_values = {
        "fields": {"t": np.zeros((3, 4, 5))},
        "coordinates": GRID,
        "units": {"t": "K"},
    }
    with pytest.raises(DataError, match=message):
        rhodolite.from_arrays(**{**given_values, **changes})


@pytest.mark.parametrize("suffix", ["nc", "zarr"])
@pytest.mark.parametrize(
    ("note", "kept"),
    [
        (datetime.date(2000, 1, 2), "2000-01-02"),
        (np.datetime64("2000-01-02"), "2000-01-02"),
        (b"text", "text"),
        (("a", "b"), ["a", "b"]),
        ([1, 2.5], [1, 2.5]),
        *(
            (refused, None)
            for refused in (2**70, [[1], [2, 3]], {"a": 1}, True, [], None)
        ),
    ],
)
def test_attributes_are_what_files_can_hold_or_refused(tmp_path, note, kept, suffix):
    def write_and_read():
        about = {"t": {"note": note}}
        made = rhodolite.from_arrays(
            {"t": np.zeros((3, 4, 5))}, GRID, units={"t": "K"}, attributes=about
        )
        made.write(tmp_path / f"a.{suffix}")
        return rhodolite.read(tmp_path / f"a.{suffix}")["t"].attributes["note"]

    if kept is None:
        with pytest.raises(DataError, match=r"note = .* cannot be an attribute"):
            write_and_read()
    else:
        assert np.asarray(write_and_read()).tolist() == kept


def test_tables_come_and_go(demo):
    values = np.arange(60.0).reshape(3, 4, 5)
    made = rhodolite.from_arrays({"t": values}, GRID, units={"t": "K"})
    long = made.to_pandas()
    assert long.columns.tolist() == ["time", "lat", "lon", "t"]
    assert long["time"].dtype.kind == "M"
    back = rhodolite.from_pandas(long.sample(frac=1, random_state=1), units={"t": "K"})
    np.testing.assert_array_equal(back["t"], values)
    part = rhodolite.from_pandas(long.iloc[1:], units={"t": "K"})["t"].values()
    assert np.isnan(part[0, 0, 0])
    assert np.isfinite(part).sum() == 59
    wide = made.to_pandas("wide")
    assert wide.shape == (3, 20)
    np.testing.assert_array_equal(wide.to_numpy(), values.reshape(3, 20))
    data = rhodolite.read(demo / "nordic_daily_2018.nc").extract(
        points=demo / "reservoirs.csv"
    )
    sites = data.to_pandas(variable="tas")[["time", "name", "lat", "lon", "tas"]]
    again = rhodolite.from_pandas(sites, units={"tas": "K"})
    assert again["tas"].shape == (365, 12)
    frame = pd.DataFrame({"time": ["2001-01-01"] * 2, "t": [1.0, 2.0]})
    with pytest.raises(DataError, match="two rows are about the same cell and time"):
        rhodolite.from_pandas(frame, units={"t": "K"})
    with pytest.raises(DataError, match="no column of time, lat, lon, level or site"):
        rhodolite.from_pandas(pd.DataFrame({"a": [1]}))
    with pytest.raises(DataError, match=r"t has the dimensions .* to_pandas"):
        two = make_dataset(np.ones((3, 2, 2)), name="t")
        mean = two.summarise()["t"].replace(name="m")
        two.with_variables([*two.variables.values(), mean]).to_pandas()


def test_dates_are_times_as_they_are():
    data = rhodolite.from_arrays(
        {"x": np.arange(3.0)}, {"time": TIMES}, units={"x": "K"}
    )
    for day in (datetime.date(2001, 1, 2), np.datetime64("2001-01-02"), "2001-01-02"):
        assert data.subset(time=day)["x"].values().tolist() == [1.0]
    with pytest.raises(UsageError, match=r"^time: \{\} cannot be used here"):
        data.subset(time={})
    first, last = TIMES[0], TIMES[1]
    for span in (
        slice(first, last),
        (first, last),
        slice(None, last),
        "2001-01-01..2001-01-02",
    ):
        assert data.subset(time=span)["x"].values().tolist() == [0.0, 1.0]


def test_arguments_are_those_that_python_has(tmp_path):
    """Each as its text is understood; regions and sites as their files are."""
    values = np.arange(36 * 9 * 12.0).reshape(36, 9, 12)
    data = make_dataset(
        values,
        times=15 + 30.4 * np.arange(36),
        lats=10.0 * np.arange(-4, 5),
        lons=30.0 * np.arange(12),
    )
    data = rhodolite.api.dataset.Dataset.of(data)
    for natural, typed in (
        ({"lat": (-20, 30)}, {"lat": "-20..30"}),
        ({"lat": slice(0, None)}, {"lat": "0.."}),
        ({"lon": (-60, 60.5)}, {"lon": "-60..60.5"}),
        ({"at": (12.5, -33)}, {"at": "12.5N,33W"}),
        ({"years": range(2000, 2002)}, {"years": "2000..2001"}),
        ({"months": [1, 2]}, {"months": "1,2"}),
        (
            {"time": cftime.DatetimeNoLeap(2001, 3, 1).isoformat()[:7]},
            {"time": "2001-03"},
        ),
        ({"time": ("2000", 2001)}, {"time": "2000..2001"}),
    ):
        ours, theirs = (data.subset(**settings) for settings in (natural, typed))
        np.testing.assert_array_equal(ours["tas"].values(), theirs["tas"].values())
    square = shapely.box(10, -15, 100, 25)
    outline = {
        "type": "Feature",
        "properties": {},
        "geometry": shapely.geometry.mapping(square),
    }
    (tmp_path / "a.geojson").write_text(json.dumps(outline))
    ours, theirs = (data.summarise(region=r) for r in (square, tmp_path / "a.geojson"))
    np.testing.assert_allclose(ours["tas"].values(), theirs["tas"].values(), rtol=1e-12)
    sites = pd.DataFrame({"name": ["a", "b"], "lat": [1 / 3, 20], "lon": [31.0, 200]})
    sites.to_csv(tmp_path / "s.csv", index=False)
    ours, theirs = (data.extract(points=table) for table in (sites, tmp_path / "s.csv"))
    np.testing.assert_array_equal(ours["tas"].values(), theirs["tas"].values())
    for settings, message in (
        ({"lat": [30, 60]}, "^lat: "),
        ({"region": shapely.Point(1, 2)}, "^region: a region is a polygon"),
        ({"time": object()}, "^time: a object cannot be used here|^time: "),
        ({"at": (95, 0)}, "^at: "),
    ):
        with pytest.raises(UsageError, match=message):
            data.subset(**settings)
