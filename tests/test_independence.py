"""The same answer whatever the blocks, the workers, the format and the chunks of the input."""

from __future__ import annotations

import netCDF4
import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import EXAMPLES, run_here
from rhodolite.arrays import Engine, engine, reduction, tiling, visits
from rhodolite.formats import layout
from rhodolite.formats.cf import encode
from rhodolite.formats.netcdf import writer
from rhodolite.operations import aggregate
from rhodolite.operations.axis_reduction import reduce
from rhodolite.operations.time_groups import group_results, groups
from rhodolite.operations.time_groups import reduction as time_reduction
from test_differential import files, make

STEPS = (
    ["subset", "--lat", "-30..60"],
    ["subset", "--lon", "20..200"],
    ["anomaly", "--min-years", "1", "--min-coverage", "0"],
    ["anomaly", "--cycle", "day", "--min-years", "1", "--min-coverage", "0"],
    ["aggregate", "--to", "month", "--min-coverage", "0"],
    ["aggregate", "--to", "year", "--statistic", "p90", "--min-coverage", "0"],
    ["aggregate", "--to", "month", "--statistic", "std", "--min-coverage", "0"],
    ["climatology", "--min-years", "1", "--min-coverage", "0"],
    ["climatology", "--statistic", "median", "--min-years", "1", "--min-coverage", "0"],
    ["summarise", "--over", "time", "--statistic", "mean,p10"],
    ["summarise"],
    ["regrid", "--to", "15"],
    ["trend", "--method", "theil-sen"],
    ["trend"],
    ["accumulate"],
    ["detrend"],
)
WAYS = {
    "blocks of 2 kB, one worker": ([(Engine, "block_limit", 2048)], ["--workers", "1"]),
    "blocks of 6 kB, three workers, all results in scratch files": (
        [(Engine, "block_limit", 6000), (engine, "_SHARE_OF_RESULTS", 1 << 40)],
        ["--workers", "3"],
    ),
    "everything decoded once into scratch files": (
        [(Engine, "block_limit", 3000), (tiling, "_MOST_DECODINGS", 0.0)],
        ["--workers", "2"],
    ),
    "group by group wherever a chunk holds steps of one": (
        [
            (Engine, "block_limit", 4000),
            (reduction, "_SHARE_OF_STATE", 1 << 60),
            (reduction, "_FEWEST_GROUPS", 1),
        ],
        [],
    ),
    "percentiles from the outermost values of each group, merged": (
        [
            (Engine, "block_limit", 3000),
            (reduction, "_SHARE_OF_A_GROUP", 1 << 60),
            (reduction.Reduction, "_series_are_at_hand", lambda *_: False),
            (aggregate, "_HELD_AT_ONCE", -1),
        ],
        [],
    ),
    "percentiles from the outermost values, group by group": (
        [
            (time_reduction, "_LARGE_GROUP", -1),
            (reduction, "_SHARE_OF_STATE", 1 << 60),
            (reduction, "_FEWEST_GROUPS", 1),
            (reduction.Reduction, "_series_are_at_hand", lambda *_: False),
            (aggregate, "_HELD_AT_ONCE", -1),
            (group_results, "_PIECE", 100),
        ],
        [],
    ),
    "never group by group": ([(reduction, "_SHARE_OF_A_GROUP", 1 << 60)], []),
    "each group written in one visit": (
        [
            (writer, "_SMALL", 8),
            (visits, "_FEWEST_VISITS", 1),
            (layout, "_LEAST_BYTES", 1),
        ],
        [],
    ),
    "a few values at once": (
        [
            *((holder, "IN_CACHE", 64) for holder in (reduce, groups)),
            (groups, "_FEWEST_CELLS", 1),
            (encode, "_IN_CACHE", 5),
            (group_results, "_PIECE", 100),
            (writer, "_SMALL", 8),
        ],
        [],
    ),
}


_MAPS = {
    "hours": None,
    "seed": 0,
    "daily": False,
    "calendar": "standard",
    "count": 36,
    "rows": 3,
    "columns": 4,
    "falling": False,
    "west": 0.0,
    "stamp": 0.0,
    "bounds": False,
    "kind": "f4",
    "unit": "days",
    "gaps": 0.0,
    "what": "state",
    "two_marks": False,
    "coordinate": "f4",
    "rough": False,
    "curvilinear": False,
    "steps_of_chunk": 1,
}
"""Maps in chunks of one step each, which departures of departures read in visits."""


@settings(max_examples=EXAMPLES or 8)
@given(how=files(), chain=st.lists(st.sampled_from(STEPS), min_size=1, max_size=3))
@example(how=_MAPS, chain=[STEPS[2], STEPS[2]])
def test_no_way_of_working_and_no_format_changes_an_answer(
    tmp_path_factory, how, chain
):
    folder = tmp_path_factory.mktemp("a")
    make(folder / "a.nc", how)
    typed = " then ".join(" ".join(step) for step in chain).split()
    command = [typed[0], "{input}", *typed[1:]]
    expected = _run(folder, command, "a.nc")
    # What is zero but for rounding, as are normals of anomalies, is so beside what it was made of.
    largest = np.nanmax(
        np.abs(rhodolite.read(folder / "a.nc")["v"].values()), initial=0
    )
    how = {**how, "rounding": 2e-14 * float(largest)}
    for name, (changes, options) in WAYS.items():
        with pytest.MonkeyPatch.context() as patch:
            for holder, attribute, value in changes:
                patch.setattr(holder, attribute, value)
            _compare(_run(folder, [*command, *options], "a.nc"), expected, how, name)
    for name, options in (
        ("b.zarr", ["--chunks", "series"]),
        ("b.nc", ["--format", "netcdf3-64bit"]),
    ):
        # Left to itself a copy has the values of packed numbers in single precision.
        packed = how["kind"] in ("i2", "u1", "i4")
        verb = ("convert", "a.nc", "--pack", "keep") if packed else ("join", "a.nc")
        copied = run_here(*verb, "-o", name, "--overwrite", *options, folder=folder)
        assert copied.code == 0, copied.err
        _compare(_run(folder, command, name), expected, how, name)


def _run(folder, command, name):
    """Return what a chain gives: its values by variable, or how it is refused."""
    words = [name if word == "{input}" else word for word in command]
    answer = run_here(*words, "-o", "o.nc", "--overwrite", folder=folder)
    if answer.code:
        assert answer.code in (2, 3), answer.err
        return answer.err.replace(name, "FILE")
    with netCDF4.Dataset(folder / "o.nc") as file:
        return {
            key: np.ma.filled(np.ma.asarray(held[:], dtype="f8"), np.nan)
            for key, held in file.variables.items()
            if held.dtype != str and held.dtype.kind in "fiu"
        }


def _compare(found, expected, how, name):
    if isinstance(expected, str) or isinstance(found, str):
        assert found == expected, name
        return
    assert found.keys() == expected.keys(), name
    for key, values in expected.items():
        # Single precision is how results of packed and of single values are written.
        digits = 1e-12 if how["kind"] == "f8" else 3e-7
        scale = np.nanmax(np.abs(values), initial=1e-30) if values.size else 1.0
        np.testing.assert_allclose(
            found[key],
            values,
            rtol=digits,
            atol=digits * scale + how["rounding"],
            err_msg=f"{name}: {key}",
        )


@given(files(), st.sampled_from(STEPS))
@settings(max_examples=EXAMPLES or 12)
@pytest.mark.slow
def test_no_step_changes_its_input(tmp_path_factory, how, step):
    """Names, attributes and values are what they were, and attributes refuse to be changed."""
    folder = tmp_path_factory.mktemp("input")
    make(folder / "in.nc", how)
    data = rhodolite.read(folder / "in.nc")

    def state():
        about = {
            name: dict(variable.attributes) for name, variable in data.variables.items()
        }
        return list(data.variables), dict(data.attributes), about, data["v"].values()

    before = state()
    verb, *words = step
    options = {
        a[2:].replace("-", "_"): b for a, b in zip(words[::2], words[1::2], strict=True)
    }
    try:
        made = getattr(data, verb)(**options)
    except rhodolite.RhodoliteError:
        return
    made[made.fields[0].name].values()
    after = state()
    assert [str(part) for part in before[:3]] == [str(part) for part in after[:3]]
    np.testing.assert_array_equal(before[3], after[3])
    with pytest.raises(TypeError, match="read-only"):
        made.fields[0].attributes["units"] = "degC"
    with pytest.raises(TypeError, match="read-only"):
        made.variables["v"] = data["v"]
