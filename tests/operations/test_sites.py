"""Sites, formulas, levels, members, and what is drawn of them."""

from __future__ import annotations

import json
import math

import netCDF4
import numpy as np
import pandas
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import (
    Calc,
    DataError,
    Engine,
    Relevel,
    RhodoliteWarning,
    Summarise,
    UsageError,
)
from rhodolite.api.dataset import Dataset
from rhodolite.arrays import InMemory
from rhodolite.drawing.parts.projections import EqualArea, Polar
from rhodolite.kernels.vertical_interpolation import at_levels
from rhodolite.model.units.udunits import convertible, power, product
from rhodolite.model.variable import Variable
from rhodolite.operations.expressions.parser import Call, Formula, Name, Number
from rhodolite.operations.pairing.ensemble import member_names, stack_members


def table(folder, text, name="sites.csv"):
    (folder / name).write_text(text, encoding="utf-8")
    return str(folder / name)


def grid(values, **options):
    return make_dataset(
        values, lats=np.arange(50, 60, 2.0), lons=np.arange(0, 360, 30.0), **options
    )


def test_classes_are_those_of_the_cell_and_have_no_mean(tmp_path):
    with netCDF4.Dataset(tmp_path / "in.nc", "w") as file:
        for name, places in (("lat", [50.0, 52.0]), ("lon", [8.0, 10.0, 12.0])):
            file.createDimension(name, len(places))
            file.createVariable(name, "f8", (name,))[:] = places
        file["lat"].units, file["lon"].units = "degrees_north", "degrees_east"
        ground = file.createVariable("ground", "i1", ("lat", "lon"), fill_value=-1)
        ground[:] = [[1, 2, 3], [3, 2, -1]]
        ground.flag_values = np.array([1, 2, 3], "i1")
        ground.flag_meanings = "ice rock moss"
        file.createVariable("height", "f4", ("lat", "lon")).units = "m"
        file["height"][:] = np.arange(6).reshape(2, 3)
    table(tmp_path, "name,lat,lon\nOpal,50.2,9.8\nRuby,52,8.1\nJade,52,12\n")
    words = ("extract", "in.nc", "--points", "sites.csv", "-o", "out.nc")
    answer = run_here(*words, folder=tmp_path)
    assert answer.code == 0 and "left out" not in answer.err, answer.err
    with netCDF4.Dataset(tmp_path / "out.nc") as file:
        assert file["ground"][:].tolist() == [2, 3, None]
        assert file["ground"].dtype == "i1" and file["ground"].flag_values.size == 3
    between = run_here(
        *words[:4], "--method", "bilinear", "-o", "b.nc", folder=tmp_path
    )
    assert "no mean of classes: ground" in between.err


@pytest.mark.slow
@given(st.integers(0, 500), st.sampled_from(["nearest", "bilinear"]))
def test_sites_agree_with_indexing_and_with_interpolation_written_out(
    tmp_path_factory, seed, method
):
    """Nearest to the last bit, bilinear to 12 digits."""
    random = np.random.default_rng(seed)
    values = random.normal(size=(4, 5, 12))
    lats, lons = random.uniform(50, 58, 6), random.uniform(-180, 180, 6)
    rows = "\n".join(
        f"s{at};{x:.9f};{y:.9f}"
        for at, (y, x) in enumerate(zip(lats, lons, strict=True))
    )
    path = table(tmp_path_factory.mktemp("t"), f"Name;LONGITUDE;Latitude\n{rows}\n")
    made = grid(values).extract(points=path, method=method)
    found = made["tas"].values(Engine(memory=1 << 20))
    assert made["tas"].dimensions == ("site", "time")
    assert [str(name) for name in made["Name"].values()] == [
        f"s{at}" for at in range(6)
    ]
    y, x = (lats - 50) / 2, np.mod(lons, 360) / 30
    if method == "nearest":
        near = np.round(y).astype(int), np.round(x).astype(int) % 12
        off = np.abs(y - np.round(y)) + np.abs(x - np.round(x))
        clear = off < 0.3  # nearest on the sphere is not nearest in degrees
        np.testing.assert_array_equal(
            found[clear], values[:, near[0], near[1]].T[clear]
        )
        return
    j, i = np.minimum(y.astype(int), 3), x.astype(int)
    u, v = y - j, x - i
    corners = [
        values[:, j + a, (i + b) % 12] * abs(1 - a - u) * abs(1 - b - v)
        for a in (0, 1)
        for b in (0, 1)
    ]
    np.testing.assert_allclose(
        found, sum(corners).T, rtol=1e-7, atol=1e-8
    )  # positions have nine decimals


def test_sites_that_cannot_be_served_are_named_with_their_lines(tmp_path):
    values = np.ones((3, 5, 12))
    values[:, 2, 1] = np.nan
    data = grid(values)
    part = rhodolite.Subset(lon="0E..120E")(data)
    path = table(tmp_path, "site,lat,lon\ngood,52,31\nfar,10,31\nempty,54,29\n")
    with pytest.warns(RhodoliteWarning) as caught:
        made = part.extract(points=path)
        found = made["tas"].values()
    said = [str(w.message) for w in caught]
    assert any("outside the data" in text and "far (line 3)" in text for text in said)
    assert any("empty (line 4) have no data; --search 2" in text for text in said)
    assert np.isnan(found).sum(axis=1).tolist() == [0, 3, 3]
    with pytest.warns(RhodoliteWarning, match="far"):
        found = part.extract(points=path, search=1)
    assert np.isnan(found["tas"].values()).sum(axis=1).tolist() == [0, 3, 0]
    assert found["distance"].values()[2] == pytest.approx(231.3, rel=0.01)
    for text, error, message in (
        (
            "site,lat,lon\na,52,31\nb,31,52\n",
            DataError,
            "latitude and longitude are exchanged at b .line 3.",
        ),
        ("site,lat,lon\na,-52,31\n", DataError, "no site lies on the grid"),
        (
            "site,lat,lon\na,152,31\n",
            DataError,
            "line 2: '152' is not a lat; .*exchanged",
        ),
        (
            "site,lon\na,31\n",
            DataError,
            "no column of latitude; its columns are 'site', 'lon'",
        ),
        ("site,lat,lon\na,52N,31X\n", DataError, "line 2: '31X'"),
        ("site,lat,lon\n", DataError, "no row below it"),
    ):
        with pytest.raises(error, match=message):
            part.extract(points=table(tmp_path, text, "bad.csv"))
    lettered = data.extract(
        points=table(tmp_path, "lat,lon\n52N,30W\n54.0N,31E\n", "c.csv")
    )
    assert lettered["lon"].values().tolist() == [-30, 31]
    assert lettered["name"].values().tolist() == ["1", "2"]


def test_a_wide_table_ends_where_sites_or_times_go(demo, tmp_path):
    wide = (
        "extract",
        demo / "nordic_daily_2018.nc",
        "--points",
        demo / "reservoirs.csv",
    )
    wide = (*wide, "--layout", "wide", "then", "aggregate", "--to", "month")
    for name, more, columns in (
        ("months", (), "2018-01"),
        ("trend", ("then", "trend"), "tas_trend"),
        ("mean", ("then", "summarise", "--over", "time"), "tas [K]"),
    ):
        answer = run_here(*wide, *more, "-o", f"{name}.csv", folder=tmp_path)
        assert answer.code == 0, answer.err
        header = (tmp_path / f"{name}.csv").read_text().splitlines()[0]
        assert columns in header
        assert ("2018-12" in header) == (name == "months")


def test_tables_are_long_or_wide_and_files_follow_the_conventions(demo, tmp_path):
    """Read back with pandas alone; both layouts hold the values of the NetCDF file."""
    words = [
        "extract",
        "rotated_monthly.nc",
        "--points",
        "reservoirs.csv",
        "--quiet",
        "-o",
    ]
    for out, more in (
        ("a.nc", []),
        ("long.csv", []),
        ("wide.csv", ["--layout", "wide"]),
    ):
        answer = run_here(*words, tmp_path / out, *more, folder=demo)
        assert answer.code == 0, answer.err
    values = rhodolite.read(tmp_path / "a.nc")["ta"].values()
    assert values.shape == (12, 24, 5)
    long, wide = (
        pandas.read_csv(tmp_path / "long.csv"),
        pandas.read_csv(tmp_path / "wide.csv"),
    )
    assert list(long.columns) == [
        "time",
        "height [m]",
        "lat",
        "lon",
        "name",
        "altitude [m]",
        "capacity [hm3]",
        "distance [km]",
        "ta [K]",
    ]
    np.testing.assert_allclose(
        long["ta [K]"].to_numpy().reshape(12, 24, 5), values, rtol=1e-7
    )
    assert list(wide.columns[-24:]) == [
        f"{y}-{m:02d}" for y in (2017, 2018) for m in range(1, 13)
    ]
    np.testing.assert_allclose(
        wide.iloc[:, -24:].to_numpy().reshape(12, 5, 24),
        values.transpose(0, 2, 1),
        rtol=1e-7,
    )
    assert run_here("check", tmp_path / "a.nc").code == 0
    with netCDF4.Dataset(tmp_path / "a.nc") as file:
        assert file.featureType == "timeSeries"
        assert file["name"].cf_role == "timeseries_id"
    box = [
        "extract",
        "nordic_daily_2018.nc",
        "--lat",
        "60N..61N",
        "--lon",
        "8E..9E",
        "--layout",
        "wide",
        "--quiet",
    ]
    assert run_here(*box, "-o", tmp_path / "box.csv", folder=demo).code == 0
    cells = pandas.read_csv(tmp_path / "box.csv")
    assert cells.shape == (2 * 3 * 3, 4 + 365)
    assert set(cells["variable"]) == {"tas [K]", "pr [kg m-2 s-1]"}


# -- formulas

LEAVES = {"a": "m", "b": "m", "c": "s"}


def random_formula(draw, depth, units="m"):
    """A formula in metres, the same for Python, and whether something may be divided by zero."""
    kind = draw(
        st.sampled_from(
            ["name", "number", "sum", "scale", "max", "where", "abs"]
            if depth
            else ["name", "number"]
        )
    )
    inner = lambda: random_formula(draw, depth - 1, units)  # noqa: E731
    if kind == "name":
        name = draw(st.sampled_from(["a", "b"]))
        return name, name
    if kind == "number":
        value = draw(st.integers(1, 9))
        return f"{value}[m]", str(value)
    if kind == "sum":
        (p, q), (r, s), sign = inner(), inner(), draw(st.sampled_from("+-"))
        return f"({p} {sign} {r})", f"({q} {sign} {s})"
    if kind == "scale":
        (p, q), factor = inner(), draw(st.integers(1, 5))
        return draw(
            st.sampled_from(
                [
                    (f"{p} * {factor}", f"({q}) * {factor}"),
                    (f"-{p}", f"-({q})"),
                    (f"{p} / {factor} ^ 2", f"({q}) / {factor} ** 2"),
                ]
            )
        )
    if kind == "abs":
        p, q = inner()
        return f"abs({p})", f"abs({q})"
    (p, q), (r, s) = inner(), inner()
    if kind == "max":
        return f"max({p}, {r})", f"np.maximum({q}, {s})"
    return (
        f"where({p} > {r} and not c == 2, {p}, {r})",
        f"np.where(({q} > {s}) & ~(c == 2), {q}, {s})",
    )


@given(st.data())
def test_formulas_compute_what_python_does(data):
    """To 12 digits, over arrays of different axes."""
    random = np.random.default_rng(data.draw(st.integers(0, 99)))
    values = {
        "a": random.normal(size=(3, 4)),
        "b": random.normal(size=3),
        "c": random.integers(0, 4, size=4).astype(float),
    }
    dimensions = {"a": ("x", "y"), "b": ("x",), "c": ("y",)}
    dataset = Dataset(
        {
            n: Variable(n, dimensions[n], InMemory(v), {"units": LEAVES[n]})
            for n, v in values.items()
        }
    )
    text, python = random_formula(data.draw, 3)
    spread = {"a": values["a"], "b": values["b"][:, None], "c": values["c"][None, :]}
    names = Formula.parse(text).names()
    if not names:
        with pytest.raises(DataError, match="no variable in it"):
            Calc(formula=text, name="x")(dataset)
        return
    made = Calc(formula=text, name="x", keep=True)(dataset)["x"]
    expected = np.asarray(eval(python, {"np": np, "abs": np.abs, **spread}))
    shape = tuple({"x": 3, "y": 4}[d] for d in ("x", "y") if d in made.dimensions)
    found = made.values() if made.dimensions != ("y", "x") else made.values().T
    np.testing.assert_allclose(
        found,
        np.broadcast_to(expected, (3, 4))
        if shape == (3, 4)
        else expected.reshape(shape),
        rtol=1e-12,
        atol=1e-12,
    )
    assert made.units == "m"


def test_formulas_are_trees_of_plain_nodes_with_the_usual_strength():
    assert Formula.parse("-a^2 + 3*b").tree == Call(
        "+",
        (
            Call("negative", (Call("^", (Name("a"), Number(2.0))),)),
            Call("*", (Number(3.0), Name("b"))),
        ),
    )
    assert Formula.parse("2^3^2").tree == Call(
        "^", (Number(2.0), Call("^", (Number(3.0), Number(2.0))))
    )
    assert Formula.parse("a - b - 5 [degC]").tree == Call(
        "-", (Call("-", (Name("a"), Name("b"))), Number(5.0, "degC"))
    )
    assert Formula.parse("not a > 1 and b < 2 or c").names() == ["a", "b", "c"]
    for text, message in (
        ("", "the formula is empty"),
        ("a +", "a value is missing at the end"),
        ("a b", "operator is missing"),
        ("f(a)", "no function 'f'"),
        ("sqrt(a, b)", "sqrt takes 1"),
        ("max(a)", "takes two or more"),
        ("(a", "'\\)' is missing"),
        ("a < b < c", "do not chain"),
        ("a.b", "cannot be read"),
        ("__import__('os')", "cannot be read"),
        ("a; b", "cannot be read"),
    ):
        with pytest.raises(UsageError, match=message):
            Calc(formula=text, name="x")


@pytest.mark.parametrize(
    ("formula", "units", "value"),
    [
        ("tas - 0[degC]", "K", 6.85),
        ("max(tas - 5[degC], 0)", "K", 1.85),
        ("tas > 5[degC]", "1", 1.0),
        ("sqrt(u^2 + v^2)", "m s-1", 5.0),
        ("u * v / 2[s]", "m2 s-3", 6.0),
        ("u + 1[km/h]", "m s-1", 3 + 1 / 3.6),
        ("p / 100[Pa]", "1", 8.5),
        ("exp(log(p / 1[Pa]))", "1", 850.0),
        ("tas^2", "K2", 280.0**2),
        ("100 * u / v", "1", 75.0),
        ("cos(lat)", "1", 0.5),
        ("pr > 1[mm/day]", "1", 1.0),
        ("where(missing(u), 0, u)", "m s-1", 3.0),
        ("arctan2(v, u)", "radian", math.atan2(4, 3)),
        ("mean(u, time) - u", "m s-1", 0.0),
        ("abs(-u)", "m s-1", 3.0),
        ("t - 5[degC]", "K", 2.0),
        ("t + 2", "degC", 9.0),
        ("min(t, 278.15[K])", "degC", 5.0),
    ],
)
def test_units_are_derived_and_checked(formula, units, value):
    fields = {
        "tas": (280.0, "K"),
        "u": (3.0, "m s-1"),
        "v": (4.0, "m s-1"),
        "p": (850.0, "Pa"),
        "t": (7.0, "degC"),
        "pr": (2 / 86400, "kg m-2 s-1"),
    }
    base = make_dataset(np.zeros((2, 1, 1)), lats=[60.0])
    names = {"pr": {"standard_name": "precipitation_flux"}}
    data = base.with_variables(
        [
            *base.variables.values(),
            *(
                Variable(
                    name,
                    ("time", "lat", "lon"),
                    InMemory(np.full((2, 1, 1), number)),
                    {"units": u} | names.get(name, {}),
                )
                for name, (number, u) in fields.items()
            ),
        ]
    )
    made = Calc(formula=formula, name="x")(data)
    assert made["x"].values().ravel()[0] == pytest.approx(value, rel=1e-12, abs=1e-12)
    assert made["x"].units == units or convertible(made["x"].units, units)
    assert [v.name for v in made.fields] == ["x"]


@pytest.mark.parametrize(
    ("formula", "message"),
    [
        ("tas + u", "cannot be turned into each other"),
        ("log(u)", "divide by 1.m s-1."),
        ("t * 2", "whose zero is arbitrary"),
        ("u^v", "needs a number as its exponent|without units"),
        ("sqrt(u)", "no units of"),
        ("nothing + 1", "no variable"),
        ("mean(u, place)", "over which axis"),
        ("level(u, 850[hPa])", "no vertical axis"),
        ("u + 1[frobs]", "does not know"),
        ("t + t", "cannot be added"),
        ("time + 1", "is a time"),
    ],
)
def test_formulas_whose_units_make_no_sense_are_refused(formula, message):
    base = make_dataset(np.zeros((2, 1, 1)), lats=[60.0])
    more = [
        Variable(n, ("time",), InMemory(np.ones(2)), {"units": u})
        for n, u in (("u", "m s-1"), ("v", "m s-1"), ("t", "degC"))
    ]
    with pytest.raises(DataError, match=message):
        Calc(formula=formula, name="x")(
            base.with_variables([*base.variables.values(), *more])
        )


@given(
    st.sampled_from(["m", "s-1", "kg m-2", "m s-1", "Pa", "W m-2", "mm/day"]),
    st.sampled_from(["s", "m2", "kg-1 m2", "1"]),
)
def test_units_of_products_and_powers_mean_what_udunits_says(a, b):
    assert convertible(product(a, b), f"({a}) ({b})")
    assert convertible(product(a, b, divide=True), f"({a}) ({b})-1")
    assert convertible(power(a, 2), f"({a})2")
    assert power(power(a, 2), 0.5) is None or convertible(power(power(a, 2), 0.5), a)


# -- levels


@given(st.integers(0, 200), st.booleans(), st.booleans())
def test_levels_agree_with_numpy_column_by_column(seed, falling, varying):
    """numpy.interp, 12 digits; also for levels that differ from column to column."""
    random = np.random.default_rng(seed)
    shape = (6, 4)
    heights = np.sort(random.uniform(0, 100, shape if varying else 6), axis=0)
    values = random.normal(size=shape)
    wanted = random.uniform(-5, 105, 5)
    order = slice(None, None, -1) if falling else slice(None)
    found = at_levels(values[order], heights[order], wanted, extrapolate=False)
    for column in range(4):
        x = heights[:, column] if varying else heights
        np.testing.assert_allclose(
            found[:, column],
            np.interp(wanted, x, values[:, column], np.nan, np.nan),
            rtol=1e-11,
        )
    beyond = at_levels(values, heights, wanted, extrapolate=True)
    np.testing.assert_allclose(
        beyond[~np.isnan(found)],
        at_levels(values, heights, wanted, extrapolate=False)[~np.isnan(found)],
    )
    assert np.isfinite(beyond).all()


def hybrid(
    values,
    named="atmosphere_hybrid_sigma_pressure_coordinate",
    terms="a: a b: b ps: ps p0: p0",
):
    count = values.shape[1]
    eta = np.linspace(0.1, 1, count)
    made = [
        Variable(
            "time",
            ("time",),
            InMemory(np.arange(values.shape[0])),
            {"units": "days since 2000-01-01"},
        ),
        Variable(
            "lev",
            ("lev",),
            InMemory(eta),
            {
                "standard_name": named,
                "units": "1",
                "positive": "down",
                "formula_terms": terms,
            },
        ),
        Variable("a", ("lev",), InMemory(0.5 * (1 - eta)), {}),
        Variable("b", ("lev",), InMemory(eta - 0.5 * (1 - eta)), {}),
        Variable("p0", (), InMemory(np.float64(1000.0)), {"units": "hPa"}),
        Variable(
            "ps",
            ("time", "x"),
            InMemory(
                np.linspace(980, 1020, values.shape[0] * values.shape[2]).reshape(
                    values.shape[0], values.shape[2]
                )
            ),
            {"units": "hPa"},
        ),
        Variable("ta", ("time", "lev", "x"), InMemory(values), {"units": "K"}),
    ]
    return Dataset({v.name: v for v in made})


def test_pressures_of_a_models_own_levels_are_computed():
    """A profile linear in the logarithm of pressure comes back at any pressure, to 12 digits."""
    blank = hybrid(np.zeros((2, 30, 3)))
    a, b, ps = (blank[name].values() for name in ("a", "b", "ps"))
    pressure = a[None, :, None] * 1e5 + b[None, :, None] * ps[:, None, :] * 100
    data = hybrid(200 + 30 * np.log(pressure / 1e4))
    made = Relevel(to="850hPa,500hPa,300hPa")(data)
    assert made["ta"].dimensions == ("time", "plev", "x")
    expected = 200 + 30 * np.log(np.array([850, 500, 300]) / 100)
    np.testing.assert_allclose(
        made["ta"].values(),
        np.broadcast_to(expected[None, :, None], (2, 3, 3)),
        rtol=1e-12,
    )
    assert (made["plev"].units, made["plev"].attributes["positive"]) == ("hPa", "down")
    assert "formula_terms" not in str(made["plev"].attributes)
    with pytest.raises(DataError, match="ps is not there; join the file"):
        Relevel(to="500hPa")(
            data.with_variables(v for v in data.variables.values() if v.name != "ps")
        )
    with pytest.raises(DataError, match="levels of ocean_s are not understood"):
        Relevel(to="500hPa")(hybrid(np.zeros((2, 3, 3)), named="ocean_s"))


def test_new_levels_are_in_any_unit_and_missing_beyond_the_old_ones():
    z = np.array([0.0, 10, 100, 1000])
    data = Dataset(
        {
            v.name: v
            for v in (
                Variable(
                    "depth", ("depth",), InMemory(z), {"units": "m", "positive": "down"}
                ),
                Variable(
                    "thetao",
                    ("depth", "x"),
                    InMemory(np.stack([z, 2 * z], axis=1)),
                    {"units": "degC"},
                ),
            )
        }
    )
    made = Relevel(to="0.05km,0.5km")(data)
    np.testing.assert_allclose(
        made["thetao"].values(), [[50, 100], [500, 1000]], rtol=1e-12
    )
    assert made["depth"].values().tolist() == [0.05, 0.5]
    with pytest.warns(
        RhodoliteWarning, match=r"1 of 3 new levels lie beyond the old ones .1900 m."
    ):
        assert (
            np.isnan(Relevel(to="100m..1900m/900m")(data)["thetao"].values()).sum() == 2
        )
    far = Relevel(to="2000m", extrapolate=True)(data)["thetao"].values()
    np.testing.assert_allclose(far, [[2000, 4000]], rtol=1e-12)
    for text, message in (
        ("850hPa,500m", "mixes hPa and m"),
        ("1m..2m", "are not levels"),
        ("5m,5m", "names a level twice"),
    ):
        with pytest.raises(UsageError, match=message):
            Relevel(to=text)
    with pytest.raises(DataError, match=r"heights or depths .in m., which hPa cannot"):
        Relevel(to="500hPa")(data)


def test_what_is_certain_to_be_a_temperature_is_no_difference():
    """In a sum with degC, K is a difference, but for what its standard name calls a temperature."""
    for name, expected in (
        ("", 9.0),
        ("air_temperature", None),
        ("surface_temperature", None),
    ):
        data = make_dataset(
            np.full((1, 1, 1), 2.0),
            name="d",
            attributes={"units": "K", "standard_name": name},
        )
        t = data["d"].replace(name="t", data=InMemory(np.full((1, 1, 1), 7.0)))
        both = data.with_variables([*data.variables.values(), t.edit(units="degC")])
        for formula in ("t + d", "d + t", "d + 7[degC]"):
            if expected is None:
                with pytest.raises(
                    DataError, match="d is a temperature, and two of these"
                ):
                    Calc(formula=formula, name="x")(both)
            else:
                result = Calc(formula=formula, name="x")(both)["x"]
                assert (result.values().item(), result.units) == (expected, "degC")


@pytest.mark.parametrize("statistic", [None, "std", "max", "median"])
def test_sites_are_summarised_together_and_by_a_column(tmp_path, statistic):
    """Against NumPy over the sites of each word, each site alike."""
    rng = np.random.default_rng(8)
    values = rng.normal(size=(4, 6))
    values[2, 1] = np.nan
    basins = ["north", "south", "north", "east", "south", "north"]
    rows = ["time,name,lat,lon,basin,rain [mm]"]
    rows += [
        f"200{t},s{s},{60 + s},{5 + 2 * s},{basins[s]},{values[t, s]!r}".replace(
            "np.float64", ""
        )
        .replace("(", "")
        .replace(")", "")
        for t in range(4)
        for s in range(6)
    ]
    (tmp_path / "sites.csv").write_text("\n".join(rows))
    asked = ["--statistic", statistic] if statistic else []
    work = {None: np.nanmean, "max": np.nanmax, "median": np.nanmedian}.get(statistic)
    work = work or (lambda part, axis: np.nanstd(part, axis=axis, ddof=1))
    words = ("summarise", "sites.csv", "--over", "site", *asked)
    assert run_here(*words, "-o", "all.nc", folder=tmp_path).code == 0
    together = rhodolite.read(tmp_path / "all.nc")["rain"]
    assert together.dimensions == ("time",)
    np.testing.assert_allclose(together.values(), work(values, axis=1), rtol=1e-6)
    answer = run_here(*words, "--by", "basin", "-o", "by.nc", folder=tmp_path)
    assert answer.code == 0, answer.err
    grouped = rhodolite.read(tmp_path / "by.nc")
    for at, basin in enumerate(grouped["basin"].values()):
        inside = [site for site in range(6) if basins[site] == basin]
        expected = work(values[:, inside], axis=1)
        np.testing.assert_allclose(grouped["rain"].values()[:, at], expected, rtol=1e-6)
        assert grouped["site_count"].values()[at] == len(inside)
    across = ("-o", "by.csv", "--across", "basin")
    assert (
        run_here(
            "convert", "by.nc", "--variable", "rain", *across, folder=tmp_path
        ).code
        == 0
    )
    first = (tmp_path / "by.csv").read_text().splitlines()[0]
    assert first == "time,east [mm],north [mm],south [mm]"
    for refused, message in (
        (("--over", "site", "--by", "river"), "no column 'river'. There are: "),
        (("--over", "time", "--by", "basin"), "--by goes with --over site"),
    ):
        answer = run_here(
            "summarise", "sites.csv", *refused, "-o", "x.nc", folder=tmp_path
        )
        assert message in answer.err


def test_what_a_file_says_of_its_areas_is_kept_and_each_may_have_a_column(tmp_path):
    squares = [
        ("A", 0, {"code": 7, "river": "Ruby"}),
        ("B", 10, {"code": 9.5, "river": None}),
    ]
    features = [
        {
            "type": "Feature",
            "properties": {"name": name, **about, "parts": [1, 2]},
            "geometry": {
                "type": "Polygon",
                "coordinates": [[[w, 0], [w + 4, 0], [w + 4, 4], [w, 4], [w, 0]]],
            },
        }
        for name, w, about in squares
    ]
    collection = {"type": "FeatureCollection", "features": features}
    (tmp_path / "areas.geojson").write_text(json.dumps(collection))
    data = make_dataset(
        np.arange(2 * 8 * 16.0).reshape(2, 8, 16),
        lats=np.arange(8) - 1,
        lons=np.arange(16),
    )
    rhodolite.write(data, tmp_path / "a.nc")
    words = ("summarise", "a.nc", "--region", "areas.geojson")
    assert run_here(*words, "-o", "r.nc", folder=tmp_path).code == 0
    regions = rhodolite.read(tmp_path / "r.nc")
    assert list(regions["river"].values()) == ["Ruby", ""]
    np.testing.assert_array_equal(regions["code"].values(), [7, 9.5])
    assert "parts" not in regions.variables
    assert (
        run_here(*words, "-o", "r.csv", "--across", "region", folder=tmp_path).code == 0
    )
    table = rhodolite.read(tmp_path / "r.csv")
    for at, name in enumerate("AB"):
        expected = regions["tas"].values()[:, at]
        np.testing.assert_allclose(table[name].values(), expected, rtol=1e-6)


# -- members


def member(values, calendar="standard", units="days since 2000-01-01", **attributes):
    import cftime

    dates = [
        cftime.datetime(2000 + at // 12, at % 12 + 1, 15, calendar=calendar)
        for at in range(len(values))
    ]
    return make_dataset(
        values,
        times=cftime.date2num(dates, units, calendar),
        calendar=calendar,
        units=units,
        attributes=attributes,
    )


def test_members_of_other_calendars_and_units_give_mean_spread_and_agreement(rng):
    """Against numpy over a stacked array, 12 digits."""
    values = rng.normal(0, 1, (3, 30, 2, 2))
    sets = [
        member(values[0], units_metadata="temperature: difference"),
        member(values[1][:28], "noleap"),
        member(values[2] - 0.0, "360_day", "hours since 1990-01-01"),
    ]
    with pytest.warns(RhodoliteWarning, match="have no counterpart"):
        both = stack_members(sets, ["one", "two", "three"])
    assert both["tas"].shape == (3, 28, 2, 2)
    made = Summarise(over="ensemble")(both)
    part = values[:, :28]
    np.testing.assert_allclose(
        made["tas"].values(), part.mean(axis=0), rtol=1e-12, atol=1e-14
    )
    np.testing.assert_allclose(
        made["tas_spread"].values(), part.std(axis=0, ddof=1), rtol=1e-12
    )
    agree = (np.sign(part) == np.sign(part.mean(axis=0))).mean(axis=0) * 100
    np.testing.assert_allclose(made["tas_agreement"].values(), agree, rtol=1e-6)
    assert made["tas"].attributes["ancillary_variables"] == "tas_spread tas_agreement"
    other = make_dataset(np.zeros((3, 3, 2)))
    with pytest.raises(DataError, match=r"regrid --to 2.5 before them"):
        stack_members([make_dataset(np.zeros((3, 2, 2))), other], ["a", "b"])
    assert member_names(["x/tas_pyrope_hist.nc", "x/tas_almandine_hist.nc"]) == [
        "pyrope",
        "almandine",
    ]


@pytest.mark.slow
def test_four_models_become_one_ensemble_in_one_command(demo, tmp_path):
    words = [
        "regrid",
        *(
            f"{name}_future.nc"
            for name in ("almandine", "pyrope", "spessartine", "grossular")
        ),
        "--members",
        "--to",
        "10",
        "then",
        "subset",
        "--time",
        "2030..2031",
        "--variable",
        "tas",
    ]
    answer = run_here(*words, "-o", tmp_path / "all.nc", folder=demo)
    assert answer.code == 0, answer.err
    everything = rhodolite.read(tmp_path / "all.nc")
    assert everything["tas"].shape == (4, 24, 18, 36)
    assert [str(n) for n in everything["member_name"].values()] == [
        "almandine",
        "pyrope",
        "spessartine",
        "grossular",
    ]
    drawn = run_here(
        *words, "then", "draw", "map", "-o", tmp_path / "a.png", folder=demo
    )
    assert (
        drawn.code,
        "tas has 4 members; put summarise --over ensemble before it" in drawn.err,
    ) == (3, True)
    answer = run_here(
        *words,
        "then",
        "summarise",
        "--over",
        "ensemble",
        "-o",
        tmp_path / "mean.nc",
        folder=demo,
    )
    assert answer.code == 0, answer.err
    np.testing.assert_allclose(
        rhodolite.read(tmp_path / "mean.nc")["tas"].values(),
        everything["tas"].values().mean(axis=0),
        rtol=1e-6,
    )
    from_python = rhodolite.read([demo / "almandine_future.nc"] * 2, members=True)
    assert Summarise(over="ensemble")(from_python)["pr_spread"].values().max() == 0
    alone = run_here(
        "summarise",
        "almandine_future.nc",
        "--members",
        "--over",
        "ensemble",
        "-o",
        tmp_path / "b.nc",
        folder=demo,
    )
    assert "is a single file; name each member" in alone.err


# -- pictures


@pytest.mark.parametrize("projection", [EqualArea(-180.0), Polar(1.0), Polar(-1.0)])
def test_projections_keep_areas(projection):
    """Small quadrilaterals against the sphere: the same ratio everywhere, to 4 digits."""
    random = np.random.default_rng(3)
    east, north = random.uniform(-170, 170, 200), random.uniform(-80, 80, 200)
    d = 1e-3
    x, y = projection.flat(
        np.array([east - d, east + d, east, east]),
        np.array([north, north, north - d, north + d]),
    )
    area = (
        np.abs((x[1] - x[0]) * (y[3] - y[2]) - (x[3] - x[2]) * (y[1] - y[0]))
        / (2 * d) ** 2
    )
    np.testing.assert_allclose(area / np.cos(np.radians(north)), 1, rtol=1e-4)


@pytest.mark.parametrize(
    "words",
    [
        "map rotated_monthly.nc --level 10m --points reservoirs.csv --region catchment.geojson",
        "map garnet_monthly_1981-2020.nc --variable tas --time 2015 --projection equal-area",
        "map garnet_monthly_1981-2020.nc --variable pr --time 2015 --projection south-polar",
        "map rotated_monthly.nc --level 10m --projection north-polar",
        "profile pressure_monthly.nc --variable ta --log",
        "profile pressure_monthly.nc --variable ua --against lat",
        "profile pressure_monthly.nc --variable ta --by time --time 2017 --at 60N,10E",
        "section pressure_monthly.nc --variable ua --log",
        "section garnet_monthly_1981-2020.nc --variable tas --time 2010..2011",
        "section garnet_monthly_1981-2020.nc --variable tas --plane lon-time --time 2015",
    ],
)
def test_pictures_of_space_are_drawn(demo, tmp_path, words):
    answer = run_here("draw", *words.split(), "-o", tmp_path / "a.png", folder=demo)
    assert answer.code == 0, answer.err
    with Image.open(tmp_path / "a.png") as picture:
        width, height = picture.size
        assert 600 < width <= 1280
        assert 400 < height < 1000
        shades = picture.convert("RGB").getcolors(1 << 24)
    assert len(shades) > 8


@pytest.mark.slow
def test_an_animation_has_a_frame_for_each_step_and_one_legend(demo, tmp_path):
    words = [
        "draw",
        "animation",
        "rotated_monthly.nc",
        "--level",
        "10m",
        "--time",
        "2017",
        "--every",
        "4",
        "--rate",
        "2",
    ]
    answer = run_here(*words, "-o", tmp_path / "a.gif", folder=demo)
    assert answer.code == 0, answer.err
    with Image.open(tmp_path / "a.gif") as film:
        assert (film.n_frames, film.info["duration"]) == (3, 500)
        frames = []
        for at in range(3):
            film.seek(at)
            frames.append(np.asarray(film.convert("RGB")).astype(int))
    legend = [frame[150:700, 880:890] for frame in frames]
    assert all((np.abs(one - legend[0]) > 40).mean() < 0.01 for one in legend)
    assert (np.abs(frames[1] - frames[0]) > 40).mean() > 0.1
    refused = run_here(*words, "-o", tmp_path / "a.png", folder=demo)
    assert (
        refused.code,
        "an animation is written as one of .gif, .mp4" in refused.err,
    ) == (
        2,
        True,
    )


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (
            "profile garnet_monthly_1981-2020.nc --variable tas --against level",
            "has no level axis|no vertical axis",
        ),
        (
            "section rotated_monthly.nc --plane lat-level",
            "summarise --latitude-bands 2",
        ),
        ("section pressure_monthly.nc", "several variables"),
        (
            "map garnet_monthly_1981-2020.nc --variable tas --projection mercator",
            "--projection: 'mercator' is not offered",
        ),
        (
            "profile pressure_monthly.nc --variable ta --against lat --by time",
            "has 12 levels",
        ),
    ],
)
def test_what_cannot_be_drawn_is_said(demo, tmp_path, words, message):
    answer = run_here("draw", *words.split(), "-o", tmp_path / "a.png", folder=demo)
    assert answer.code in (2, 3)
    assert any(part in answer.err for part in message.split("|")), answer.err


def test_the_installed_command_lists_the_regions():
    answer = run_here("inspect", "--regions")
    assert answer.code == 0
    assert "243 areas for --region" in answer.out
    assert "Democratic Republic of the Congo" in answer.out
