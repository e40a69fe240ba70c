"""Integrals over levels, first levels of a condition, and levels that a variable gives."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import run_here
from rhodolite import Relevel, Subset, Summarise
from rhodolite.arrays import InMemory
from rhodolite.errors import DataError, RhodoliteWarning, UsageError
from rhodolite.kernels.vertical_interpolation import first_crossing
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.level_direction import grows_down
from rhodolite.model.variable import Variable

PRESSURES = np.array([1000.0, 850.0, 700.0, 500.0, 300.0])


def column(values, name="ta", units="K", levels=PRESSURES, level="plev", **more):
    values = np.asarray(values, dtype=float).reshape(len(levels), 1, -1)
    about = {"plev": "hPa", "height": "m", "depth": "m"}[level]
    return rhodolite.from_arrays(
        {name: values},
        {level: levels, "lat": [50.0], "lon": np.arange(values.shape[2]) * 1.0},
        units={name: units, level: about} | more,
    )


@given(
    st.lists(st.floats(-5, 5).map(lambda v: round(v, 1)), min_size=2, max_size=7),
    st.floats(-3, 3).map(lambda v: round(v, 1)),
    st.booleans(),
)
def test_the_first_crossing_is_where_a_walk_along_the_lines_finds_it(
    values, limit, above
):
    """A fine walk from the first level on, to the distance of its steps."""
    heights = np.arange(len(values)) * 10.0
    fine = np.linspace(0, heights[-1], 20001)
    line = np.interp(fine, heights, values)
    beyond = line > limit + 1e-9 if above else line < limit - 1e-9
    ours = float(
        first_crossing(np.array(values), heights, limit, above=above, or_equal=False)
    )
    if beyond.any():
        assert ours == pytest.approx(fine[beyond.argmax()], abs=0.02)
    else:
        assert np.isnan(ours)


def test_the_freezing_level_is_found_from_the_ground_up_in_any_order():
    temperatures = [
        [280, 275, 274],
        [276, 274, np.nan],
        [272, 271, 272],
        [250, 250, 250],
    ]
    temperatures += [[230, 230, 230]]
    expected = [
        np.exp(np.interp(-273.15, [-276, -272], np.log([850.0, 700.0]))),
        np.exp(np.interp(-273.15, [-274, -271], np.log([850.0, 700.0]))),
        700.0,  # what lies below is missing
    ]
    data = column(temperatures)
    for given_data in (data, data.subset(level="300hPa..1000hPa")):
        level = Relevel(find="ta < 0degC")(given_data)["first_plev"]
        assert level.units == "hPa"
        np.testing.assert_allclose(level.values()[0], expected, rtol=1e-12)
    turned = column(np.asarray(temperatures)[::-1], levels=PRESSURES[::-1])
    again = Relevel(find="ta < 273.15")(turned)["first_plev"]
    np.testing.assert_allclose(again.values()[0], expected, rtol=1e-12)
    ground = Relevel(find="ta > 200[K]")(data)["first_plev"]
    assert set(ground.values().ravel()) == {1000.0}
    never = Relevel(find="ta > 400[K]")(data)["first_plev"]
    assert np.isnan(never.values()).all()


def test_the_mixed_layer_ends_where_it_differs_from_ten_metres():
    depths = np.array([0.0, 5.0, 20.0, 50.0, 100.0])
    theta = [20.3, 20.1, 20.0, 19.4, 15.0]
    data = column(theta, "thetao", "degC", depths, "depth")
    level = Relevel(find="thetao differs 0.2K from 10m")(data)["first_depth"]
    at_ten = np.interp(10, depths, theta)
    expected = np.interp(-(at_ten - 0.2), [-20.0, -19.4], [20.0, 50.0])
    assert level.values()[0, 0] == pytest.approx(expected, rel=1e-12)


def test_integrals_add_layers_up_and_turn_humidity_into_water():
    q = np.array([0.010, 0.006, 0.003, 0.001, 0.0])
    data = column(q, "hus", "1")
    total = Summarise(over="level", integral=True)(data)["hus"]
    expected = np.trapezoid(q, -PRESSURES)
    assert total.values()[0, 0] == pytest.approx(expected, rel=1e-12)
    assert total.units == "hPa"
    water = rhodolite.from_arrays(
        {"hus": total.values()}, {"lat": [50.0], "lon": [0.0]}, units={"hus": "hPa"}
    ).calc(formula="hus / 9.80665[m s-2]", name="prw", units="kg m-2")
    amount = water["prw"].values()[0, 0]
    assert amount == pytest.approx(expected * 100 / 9.80665, rel=1e-9)
    with pytest.raises(DataError, match="interval scale"):
        Summarise(over="level", integral=True)(column(q, "ta", "degC"))
    with pytest.raises(UsageError, match="--over level"):
        Summarise(over="area", integral=True)


@pytest.mark.parametrize(("units", "factor"), [("m", 1.0), ("m2 s-2", 9.80665)])
def test_pressures_become_heights_by_what_a_variable_says(tmp_path, units, factor):
    heights = np.array([100.0, 1500.0, 3000.0, 5500.0, 9000.0])
    temperature = 288.15 - 0.0065 * heights
    numbers = {"ta": temperature, "zg": heights * factor}
    data = rhodolite.from_arrays(
        {name: values.reshape(5, 1, 1) for name, values in numbers.items()},
        {"plev": PRESSURES, "lat": [50.0], "lon": [0.0]},
        units={"ta": "K", "zg": units, "plev": "hPa"},
    )
    data.write(tmp_path / "a.nc")
    line = "relevel a.nc --to 500m,2000m,20km --by zg -o h.nc"
    answer = run_here(
        *line.split()[:3], "500m,2000m,20000m", *line.split()[4:], folder=tmp_path
    )
    assert answer.code == 0, answer.err
    result = rhodolite.read(tmp_path / "h.nc")
    assert result["ta"].dimensions == ("height", "lat", "lon")
    expected = [288.15 - 3.25, 288.15 - 13.0, np.nan]
    np.testing.assert_allclose(result["ta"].values()[:, 0, 0], expected, rtol=1e-6)
    with pytest.raises(DataError, match="neither a height"):
        Relevel(to="500m", by="ta")(data)
    with pytest.raises(UsageError, match="--find"):
        Relevel(to="500m", find="ta < 0degC")


DEPTHS = np.array([5.0, 15.0, 40.0, 120.0])


def sea(counted):
    """The same water, with levels as different makers count them."""
    sign = -1.0 if counted.startswith("height") else 1.0
    name = {"depth by name": "deptht"}.get(counted, "depth")
    about = {"height up": {"positive": "up"}, "depth down": {"positive": "down"}}
    levels = Variable(
        name,
        (name,),
        InMemory(sign * DEPTHS),
        {"units": "m", **about.get(counted, {})},
    )
    values = np.stack([20.0 - 0.1 * DEPTHS, 12.0 - 0.05 * DEPTHS], axis=1)
    water = Variable("thetao", (name, "x"), InMemory(values), {"units": "degC"})
    return Dataset({v.name: v for v in (levels, water)})


@pytest.mark.parametrize(
    "counted", ["depth down", "depth by name", "height up", "height without a word"]
)
@pytest.mark.parametrize(
    ("step", "expected"),
    [
        (Relevel(to="10m,100m"), [[19, 11.5], [10, 7]]),
        (Relevel(to="-100m,-10m"), [[10, 7], [19, 11.5]]),
        (Subset(level="10m..50m"), [[18.5, 11.25], [16, 10]]),
        (Subset(level="..15m"), [[19.5, 11.75], [18.5, 11.25]]),
        (Subset(level="-40m"), [[16, 10]]),
        (Summarise(over="level"), [13.75, 8.875]),
    ],
)
@pytest.mark.filterwarnings("ignore:.*is counted")
def test_levels_below_the_surface_are_met_however_they_are_counted(
    counted, step, expected
):
    water = sea(counted)
    np.testing.assert_allclose(step(water)["thetao"].values(), expected, rtol=1e-7)
    found = Relevel(find="thetao differs 1degC from 15m")(water)
    (depth,) = (v for n, v in found.variables.items() if n.startswith("first"))
    np.testing.assert_allclose(np.abs(depth.values()), [25, 35], rtol=1e-9)
    assert grows_down(water.need(Role.LEVEL)) == counted.startswith("depth")
    apart = rhodolite.Compare(with_=sea("depth down"))(water)
    assert not apart["thetao_difference"].values().any()


def test_levels_in_the_other_sense_are_said_and_those_beyond_refused():
    with pytest.warns(
        RhodoliteWarning, match="counted upward, so 15 m is taken for -15"
    ):
        Subset(level="15m")(sea("height up"))
    for counted in ("depth down", "height up"):
        with pytest.raises(
            DataError, match="200 m lies beyond the levels that there are"
        ):
            Relevel(find="thetao differs 1degC from 200m")(sea(counted))
    with pytest.raises(DataError, match="no such level"):
        Subset(level="-40m")(column([1.0, 2.0], levels=[2.0, 40.0], level="height"))


@pytest.mark.parametrize(
    ("counted", "name", "positive"),
    [
        ("depth down", "depth", "down"),
        ("depth by name", "depth", "down"),
        ("height up", "height", "up"),
        ("height without a word", "height", "up"),
    ],
)
def test_outputs_say_which_way_an_axis_grows(tmp_path, counted, name, positive):
    rhodolite.write(sea(counted), tmp_path / "a.nc")
    levels = rhodolite.read(tmp_path / "a.nc").need(Role.LEVEL)
    about = levels.variable.attributes
    assert (about["standard_name"], about["positive"]) == (name, positive)
    report = run_here("check", "a.nc", folder=tmp_path).out
    assert "CF 4.3" not in report
