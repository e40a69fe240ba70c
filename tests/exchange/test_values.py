"""Variables that Python calculates with: against NumPy, against `calc`, and at every edge."""

from __future__ import annotations

import logging
import operator
import warnings

import nbclient
import nbformat
import netCDF4
import numpy as np
import pandas as pd
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import rhodolite
from conftest import run_here, write_plain
from rhodolite import DataError, UsageError
from rhodolite.api.watching import make_engine
from rhodolite.operations.expressions.parser import Call, Formula, Name, Number
from rhodolite.operations.expressions.writer import write_formula

SHAPE = (5, 4, 6)
TIMES = np.arange("2001-01-01", "2001-01-06", dtype="M8[D]")
GRID = {"time": TIMES, "lat": [50.0, 52.0, 54.0, 56.0], "lon": np.arange(6.0)}
UNARY = {
    "-": operator.neg,
    "abs": abs,
    "sqrt": np.sqrt,
    "exp": np.exp,
    "tanh": np.tanh,
    "floor": np.floor,
    "square": np.square,
    "arctan": np.arctan,
}
BINARY = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "**": operator.pow,
    "min": np.minimum,
    "max": np.maximum,
    "hypot": np.hypot,
}
COMPARING = (
    operator.lt,
    operator.le,
    operator.gt,
    operator.ge,
    operator.eq,
    operator.ne,
)


def _arrays(seed=3):
    rng = np.random.default_rng(seed)
    values = {name: rng.normal(size=SHAPE).round(2) for name in ("a", "b")}
    values["a"][rng.random(SHAPE) < 0.1] = np.nan
    return values


def _plain(units="1", **more):
    return rhodolite.from_arrays(
        _arrays() | more, GRID, units=dict.fromkeys("ab", units)
    )


# Angles have units, and numbers beside them are angles then, so they come last of all.
def _trees():
    leaves = st.sampled_from(["a", "b"]) | st.floats(-4, 4).map(
        lambda x: np.float64(round(x, 2))
    )
    numbers = [name for name in UNARY if name != "arctan"]
    return st.recursive(
        leaves,
        lambda inner: (
            st.tuples(st.sampled_from(numbers), inner)
            | st.tuples(st.sampled_from(list(BINARY)), inner, inner)
        ),
        max_leaves=8,
    )


def _value(tree, known):
    if isinstance(tree, str):
        return known[tree]
    if isinstance(tree, float):
        return tree
    name, *parts = tree
    work = (UNARY if len(parts) == 1 else BINARY)[name]
    return work(*(_value(part, known) for part in parts))


@given(_trees(), st.sampled_from(COMPARING))
def test_operators_are_numpys_and_the_same_as_calc(tree, comparing):
    """To the last digit of NumPy in double precision."""
    data, arrays = _plain(), _arrays()
    with warnings.catch_warnings(), np.errstate(all="ignore"):
        warnings.simplefilter("ignore")
        lazy = _value(tree, data)
        expected = _value(tree, arrays)
        if not isinstance(lazy, rhodolite.Variable):
            return
        expected = np.broadcast_to(expected, SHAPE)
        np.testing.assert_array_equal(lazy, expected)
        truth = np.where(
            np.isnan(expected + arrays["a"]), np.nan, comparing(expected, arrays["a"])
        )
        np.testing.assert_array_equal(comparing(lazy, data["a"]), truth)
    typed = data.calc(formula=lazy.formula, name="x")["x"]
    np.testing.assert_array_equal(typed, lazy)
    assert typed.units == lazy.units == "1"
    added = data.with_fields(x=lazy)
    assert added.record[-1] == {
        "verb": "calc",
        "formula": lazy.formula,
        "name": "x",
        "keep": True,
    }
    assert added["x"].attributes == typed.attributes


_NODES = st.recursive(
    st.sampled_from(["a", "lat", "x_1"]).map(Name)
    | st.builds(Number, st.floats(0, 1e9), st.sampled_from([None, "K", "m s-1"])),
    lambda inner: (
        st.builds(
            lambda sign, x, y: Call(sign, (x, y)),
            st.sampled_from(
                [
                    "+",
                    "-",
                    "*",
                    "/",
                    "^",
                    "<",
                    ">=",
                    "==",
                    "and",
                    "or",
                    "min",
                    "arctan2",
                ]
            ),
            inner,
            inner,
        )
        | st.builds(
            lambda name, x: Call(name, (x,)),
            st.sampled_from(["negative", "not"]),
            inner,
        )
    ),
    max_leaves=12,
)


@given(_NODES)
@example(Formula.parse("(a < 1) == (lat < 1)").tree)
def test_a_formula_is_read_as_it_was_written(tree):
    assert Formula.parse(write_formula(tree)).tree == tree


def test_comparisons_are_compared_in_brackets_alone():
    a = _plain()["a"]
    np.testing.assert_array_equal(
        (a > 0) == (a > -9), np.where(np.isnan(a), np.nan, a > 0)
    )
    assert _plain().calc(formula="(a > 0) == (b > 0)", name="both")["both"].units == "1"
    with pytest.raises(UsageError, match="comparisons do not chain"):
        _plain().calc(formula="0 < a < 1", name="x")
    # Of the sign of zero, too.
    ones = rhodolite.from_arrays(
        {"a": np.ones(4)}, {"lat": np.arange(4.0)}, units={"a": "1"}
    )["a"]
    assert (np.asarray(ones / -0.0) == -np.inf).all()


def test_units_are_those_of_calc_and_errors_are_told_as_in_python():
    data = _plain("K")
    a, b = data["a"], data["b"]
    assert (a - b).attributes["units_metadata"] == "temperature: difference"
    assert ((a / b).units, (a * b).units, (a > 3).units) == ("1", "K2", "1")
    # Arrays are plain numbers, which are what their company is.
    ones = np.ones(SHAPE)
    assert ((a - ones).units, (a * ones).units, (a > ones).units) == ("K", "K", "1")
    np.testing.assert_array_equal((a - ones) / 2 + ones, (_arrays()["a"] - 1) / 2 + 1)
    with pytest.raises(
        DataError, match=r"^exp takes numbers without units, and this is in K"
    ):
        np.exp(a)
    with pytest.raises(
        DataError, match=r"^\+ of K and m, which cannot be turned into each other"
    ):
        a + data.convert(units="b=degC").with_fields(y=b * 0 / b)["b"].calculate(
            abs, units="m"
        )
    with pytest.raises(
        UsageError, match=r"numpy.gcd of a variable is none .* stay lazy"
    ):
        np.gcd(a, 2)
    with pytest.raises(
        UsageError, match=r"shape \(3,\) beside a, whose shape is \(5, 4, 6\)"
    ):
        a + [1, 2, 3]
    with pytest.raises(
        ValueError, match="120 values, which are not true or false together"
    ):
        bool(a == b)
    with pytest.raises(TypeError, match="unsupported operand"):
        a + "1"


def test_nothing_changes_in_place_and_missing_stays_missing():
    data, arrays = _plain(), _arrays()
    a = before = data["a"]
    a += 1
    assert before is data["a"] or before.formula == "a"
    assert a.formula == "a + 1"
    np.testing.assert_array_equal(data["a"], arrays["a"])
    gaps = np.isnan(arrays["a"])
    np.testing.assert_array_equal(np.isnan(data["a"]), gaps)
    np.testing.assert_array_equal(np.isfinite(data["a"]), ~gaps)
    np.testing.assert_array_equal(
        np.where(data["b"] > 0, data["b"], np.nan),
        np.where(arrays["b"] > 0, arrays["b"], np.nan),
    )
    np.testing.assert_array_equal(
        np.clip(data["b"], -1, 0.5), np.clip(arrays["b"], -1, 0.5)
    )
    both = (data["a"] > 0) & ~(data["b"] > 0)
    truth = np.where(gaps, np.nan, (arrays["a"] > 0) & (arrays["b"] <= 0))
    np.testing.assert_array_equal(both, truth)
    np.testing.assert_array_equal(data["a"] + arrays["b"], arrays["a"] + arrays["b"])
    assert np.nansum(data["a"]) == np.nansum(arrays["a"])
    assert np.add.reduce(data["b"], axis=0).shape == SHAPE[1:]


@given(st.data())
def test_positions_are_numpys(data):
    dataset, array = _plain(), _arrays()["a"]
    key = []
    for n in SHAPE[: data.draw(st.integers(1, 3))]:
        key.append(
            data.draw(
                st.integers(-n, n - 1)
                | st.slices(n).filter(lambda s, n=n: len(range(*s.indices(n))) > 0)
                | st.just(slice(None))
            )
        )
    key = tuple(key) if data.draw(st.booleans()) else (..., *key[:1])
    cut = dataset["a"][key]
    np.testing.assert_array_equal(cut, array[key])
    np.testing.assert_array_equal(cut * 2 - cut, array[key] * 2 - array[key])
    whole = (dataset["a"] * dataset["b"])[key]
    np.testing.assert_array_equal(whole, (array * _arrays()["b"])[key])
    if cut.ndim:
        for part, expected in zip(cut, array[key], strict=True):
            np.testing.assert_array_equal(part, expected)


def test_lists_of_positions_and_what_is_none():
    a, array = _plain()["a"], _arrays()["a"]
    np.testing.assert_array_equal(
        a[[4, 0], 1:, [True, False] * 3], array[[4, 0], 1:][:, :, ::2]
    )
    assert float(a[1, 2, 3]) == array[1, 2, 3]
    for key, said in (
        ((0, 0, 0, 0), "3 dimensions"),
        ("x", "no position along time"),
        (9, "out"),
    ):
        with pytest.raises(IndexError, match=said):
            a[key]
    with pytest.raises(TypeError, match="no single number"):
        float(a)
    with pytest.raises(TypeError, match="no length"):
        len(a[0, 0, 0])


def test_values_of_other_datasets_are_brought_to_the_same_cells():
    """Rows turned round, columns counted from elsewhere, names of axes and means over some."""
    data, arrays = _plain("K"), _arrays()
    turned = data.convert(latitude="descending", longitude="-180..180")
    turned = turned.annotate(rename="lat=north")
    np.testing.assert_array_equal(turned["b"].values(), arrays["b"][:, ::-1])
    np.testing.assert_array_equal(data["a"] - turned["b"], arrays["a"] - arrays["b"])
    mean = data.summarise(over="time")["b"]
    expected = arrays["a"] - arrays["b"].mean(axis=0)
    np.testing.assert_allclose(data["a"] - mean, expected, rtol=1e-6)
    np.testing.assert_allclose(mean - data["a"], -expected, rtol=1e-6)
    series = data.summarise(over="area")["b"]
    departures = data["b"] - series
    assert departures.dimensions == ("time", "lat", "lon")
    kept = data.with_fields(eddy=departures)
    assert kept["eddy"].attributes["comment"] == "eddy = b - b_2"
    np.testing.assert_array_equal(kept["eddy"], departures)
    with pytest.raises(
        DataError, match=r"runs along 2 times .* take the same times of both first"
    ):
        data["a"] - data.subset(time="2001-01-02..2001-01-03")["a"]
    units = {"a": "K", "b": "K"}
    elsewhere = rhodolite.from_arrays(
        _arrays(), GRID | {"lat": [1.0, 2, 3, 4]}, units=units
    )
    with pytest.raises(DataError, match="lies on other latitudes in"):
        data["a"] - elsewhere["a"]
    times = {"time": np.arange(360.0, 365.0)}
    other_days = rhodolite.from_arrays(
        _arrays(),
        GRID | times,
        units=units | {"time": "days since 2000-01-01"},
        calendar="360_day",
    )
    with pytest.raises(DataError, match=r"has the calendar standard and .* 360_day"):
        data["a"] - other_days["a"]


def test_fields_are_refused_by_name():
    data = _plain()
    with pytest.raises(
        UsageError, match=r"^a: the dataset has a variable of this name"
    ):
        data.with_fields(a=data["b"])
    with pytest.raises(UsageError, match=r"^x: a field is a variable .* and not float"):
        data.with_fields(x=1.0)
    with pytest.raises(UsageError, match=r"^'a b' is no name of a field"):
        data.with_fields(**{"a b": data["b"]})
    assert "x" not in data


def _running(block):
    return np.cumsum(np.nan_to_num(block), axis=0)


def _largest(block):
    return np.nanmax(block, axis=(1, 2))


@pytest.mark.parametrize("chunks", [(1, 30, 40), (60, 5, 8), None])
def test_own_functions_get_whole_axes_in_bounded_memory(tmp_path, rng, chunks):
    values = rng.normal(size=(60, 30, 40)).astype("f4")
    path = write_plain(
        tmp_path / "a.nc", values, chunksizes=chunks, zlib=chunks is not None
    )
    tas = rhodolite.read(path)["tas"]
    exact = values.astype("f8")
    total = tas.calculate(_running, along="time", units="K d")
    assert (total.units, "standard_name" in total.attributes) == ("K d", False)
    engine = rhodolite.Engine(memory=1 << 20, workers=2)
    np.testing.assert_array_equal(total.values(engine), np.cumsum(exact, axis=0))
    most = tas.calculate(_largest, along=("lat", "lon"), drop=True)
    assert most.dimensions == ("time",)
    np.testing.assert_array_equal(most.values(engine), exact.max(axis=(1, 2)))
    np.testing.assert_array_equal(tas.calculate(np.cbrt), np.cbrt(exact))
    last = tas.calculate(lambda block: block[-1], along="time", drop=True)
    np.testing.assert_array_equal(tas - last, exact - exact[-1])
    for wrong, said in (
        (lambda b: b[:1], r"returned an array of shape"),
        (np.sum, "shape"),
    ):
        with pytest.raises(UsageError, match=said):
            tas.calculate(wrong, along="time").values()
    with pytest.raises(
        UsageError, match="has no dimension 'level'; it has time, lat, lon"
    ):
        tas.calculate(np.sum, along="level", drop=True)
    seen = np.zeros(values.shape)
    for place, block in tas.blocks(along="time", memory="1MiB"):
        np.testing.assert_array_equal(block, values[place])
        assert block.shape[0] == 60
        seen[place] += 1
    assert (seen == 1).all()


def test_what_was_calculated_is_written_and_typed_again(tmp_path, rng):
    write_plain(tmp_path / "a.nc", rng.normal(280, 5, (4, 3, 5)), name="tas")
    data = rhodolite.read(tmp_path / "a.nc")
    warm = data.with_fields(warm=(data["tas"] > 281) * 2)
    warm.write(tmp_path / "warm.nc")
    formula = warm["warm"].attributes["comment"].removeprefix("warm = ")
    answer = run_here(
        "calc",
        "a.nc",
        "--formula",
        formula,
        "--name",
        "warm",
        "-o",
        "typed.nc",
        folder=tmp_path,
    )
    assert answer.code == 0, answer.err
    with (
        netCDF4.Dataset(tmp_path / "warm.nc") as one,
        netCDF4.Dataset(tmp_path / "typed.nc") as two,
    ):
        np.testing.assert_array_equal(one["warm"][:], two["warm"][:])
        assert f"--formula '{formula}' --name warm --keep" in one.history


def test_dates_and_tables_for_other_libraries():
    data = _plain()
    assert (data.dates == TIMES).all()
    days = rhodolite.from_arrays(
        {"a": np.ones(3)},
        {"time": [57.0, 58, 59]},
        units={"a": "K", "time": "days since 2001-01-01"},
        calendar="360_day",
    )
    assert [str(date)[:10] for date in days.dates] == [
        "2001-02-28",
        "2001-02-29",
        "2001-02-30",
    ]
    table = data.__dataframe__()
    assert (
        list(table.column_names())
        == data.to_pandas().reset_index(drop=True).columns.tolist()
    )
    assert isinstance(data.to_pandas(), pd.DataFrame)


_CELLS = (
    """import rhodolite
from rhodolite.api import watching
watching._DELAY = watching._BETWEEN = 0.0
data = rhodolite.from_arrays({"tas": [[270.0, 280.0]] * 2}, {"lat": [50.0, 60], "lon": [5.0, 6]},
    units={"tas": "K"}, attributes={"tas": {"comment": "made <up>"}}, title="Nothing real")
data""",
    """import numpy as np
wide = rhodolite.from_arrays({"tas": np.ones((300, 400))}, {"lat": np.linspace(0, 60, 300),
    "lon": np.linspace(0, 60, 400)}, units={"tas": "K"})
values = wide["tas"].values(watching.make_engine(memory="1MiB"))
data["tas"] > 275""",
    "data.draw_map()",
)


@pytest.mark.slow
def test_a_notebook_shows_data_figures_and_how_far_work_has_come():
    """In a kernel of its own, as people run one."""
    notebook = nbformat.v4.new_notebook()
    notebook.cells = [nbformat.v4.new_code_cell(text) for text in _CELLS]
    nbclient.NotebookClient(notebook, timeout=300, kernel_name="python3").execute()
    shown, calculated, drawn = (cell.outputs for cell in notebook.cells)
    page = shown[-1]["data"]["text/html"]
    assert (
        "<summary>the dataset: 1 attributes</summary>" in page
        and "Nothing real" in page
    )
    assert "<details><summary>tas: 2 attributes" in page and "made &lt;up&gt;" in page
    assert [one["data"] for one in calculated[:-1]] == [
        {"text/plain": ""}
    ]  # replaced in the end
    assert "tas &gt; 275 (1)" in calculated[-1]["data"]["text/html"]
    assert "image/png" in drawn[-1]["data"]


def test_work_is_put_on_the_log(tmp_path, rng, caplog):
    write_plain(
        tmp_path / "a.nc", rng.normal(size=(50, 30, 40)), chunksizes=(1, 30, 40)
    )
    data = rhodolite.read(tmp_path / "a.nc")
    with caplog.at_level(logging.INFO, logger="rhodolite"):
        (data["tas"] * 2).values(make_engine(memory="1MiB"))
        data.summarise(over="time").write(tmp_path / "b.nc")
    said = [record.getMessage() for record in caplog.records]
    assert {record.name for record in caplog.records} == {"rhodolite"}
    assert said[0].startswith("reading: ") and any(
        text.startswith("reducing") for text in said
    )


def test_steps_see_plain_data_and_give_back_what_they_got():
    """What is told apart by identity in a step stays the same variable."""
    data = _plain("K")
    seen = []

    class Look(rhodolite.Subset):
        def apply(self, dataset):
            seen.append(dataset)
            return dataset

    assert isinstance(Look()(data), rhodolite.Dataset)
    assert isinstance(data.apply(Look()), rhodolite.Dataset)
    assert all(one["a"] is one.variables["a"] is data.variables["a"] for one in seen)
    assert not any(isinstance(one["a"], rhodolite.Variable) for one in seen)
    held = data.with_variables(
        [data["a"], *(v for v in data.variables.values() if v.name != "a")]
    )
    assert held.variables["a"] is data.variables["a"]
