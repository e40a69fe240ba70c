"""Thresholds mean the same in counts, runs and formulas, whatever the precision; temperatures add
up as meant."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, write_plain
from rhodolite import Aggregate, Calc, DataError
from rhodolite.model.units.udunits import convert

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")


@pytest.mark.slow
@given(
    st.sampled_from(["f4", "f8", "i2"]),
    st.integers(1, 99),
    st.sampled_from(["mm/day", ""]),
    st.booleans(),
)
def test_one_rule_for_thresholds(tmp_path_factory, kind, tenths, units, below):
    """Values typed with one decimal: those equal to the threshold are neither above nor below,
    however stored."""
    folder = tmp_path_factory.mktemp("t")
    numbers = np.arange(1, 101)
    about = {"units": "mm/day"} | ({"scale_factor": 0.1} if kind == "i2" else {})
    values = (numbers if kind == "i2" else numbers / 10).reshape(-1, 1, 1)
    data = rhodolite.read(
        write_plain(
            folder / "a.nc",
            values,
            kind=kind,
            times=np.arange(100),
            name="pr",
            attributes=about,
        )
    )
    threshold = f"{tenths / 10:g}"
    word, sign = ("below", "<") if below else ("above", ">")
    expected = (numbers < tenths if below else numbers > tenths).sum()
    found = []
    for kind_of in ("count", "longest-run"):
        made = Aggregate(
            to="year", statistic=f"{kind_of}-{word} {threshold}{units}", min_coverage=0
        )(data)
        found.append(made["pr"].values().item())
    number = f"{threshold}[{units}]" if units else threshold
    for formula in (f"pr {sign} {number}", f"{number} {'>' if below else '<'} pr"):
        found.append(Calc(formula=formula, name="x")(data)["x"].values().sum())
    assert found == [expected] * 4


def test_water_is_compared_with_depths_whichever_comes_first():
    data = make_dataset(
        np.array([0.5, 2.0]).reshape(-1, 1, 1) / 86400,
        times=[0, 1],
        name="pr",
        attributes={"units": "kg m-2 s-1", "standard_name": "precipitation_flux"},
    )
    for formula in ("pr > 1[mm/day]", "1[mm/day] < pr"):
        np.testing.assert_array_equal(
            Calc(formula=formula, name="x")(data)["x"].values().ravel(), [0, 1]
        )


@pytest.mark.parametrize(
    ("formula", "expected", "units"),
    [
        ("t + 5[K]", 15, "degC"),
        ("5[K] + t", 15, "degC"),
        ("t + 5", 15, "degC"),
        ("t - 280[K]", 3.15, "K"),
        ("k + 5[K]", 285, "K"),
        ("t - 5", 5, "degC"),
    ],
)
def test_sums_of_temperatures(formula, expected, units):
    data = make_dataset(
        np.full((1, 1, 1), 10.0), times=[0], name="t", attributes={"units": "degC"}
    )
    kelvin = data["t"].replace(name="k", attributes={"units": "K"}).edit()
    data = data.with_variables([*data.variables.values(), kelvin])
    data = data.with_variables(
        v.replace(data=type(v.data)(np.full((1, 1, 1), 280.0))) if v.name == "k" else v
        for v in data.variables.values()
    )
    made = Calc(formula=formula, name="x")(data)["x"]
    assert (made.units, made.values().item()) == (units, pytest.approx(expected))
    with pytest.raises(DataError, match="cannot be added"):
        Calc(formula="t + t", name="x")(data)


@pytest.mark.parametrize("units", ["K", "degC", "degF"])
def test_a_threshold_is_the_same_on_every_scale(units):
    """Of whole degrees Fahrenheit, as stations write them: 77 are 25 degC, and not above."""
    fahrenheit = np.array([31.0, 32.0, 41.0, 50.0, 64.4, 68.0, 77.0, 78.0])
    values = {
        "degF": fahrenheit,
        "degC": np.array([-0.5555, 0, 5, 10, 18, 20, 25, 25.5556]),
        "K": np.array([-0.5555, 0, 5, 10, 18, 20, 25, 25.5556]) + 273.15,
    }[units]
    data = make_dataset(
        values.reshape(-1, 1, 1), times=np.arange(8) + 0.5, attributes={"units": units}
    )
    counts = []
    for limit in ("0degC", "5degC", "10degC", "18degC", "20degC", "25degC", "77degF"):
        for side in ("above", "below"):
            step = Aggregate(
                to="year", statistic=f"count-{side} {limit}", min_coverage=0
            )
            counts.append(float(step(data)["tas"].values()[0, 0, 0]))
    assert counts == [6, 1, 5, 2, 4, 3, 3, 4, 2, 5, 1, 6, 1, 6]


@given(st.sampled_from(["degC", "degF", "K", "degR"]), st.decimals(-200, 200, places=2))
def test_scales_of_temperature_are_converted_as_decimals_are(units, number):
    """To the nearest number of double precision: sums of fractions."""
    kelvins = {
        "K": (Fraction(1), Fraction(0)),
        "degR": (Fraction(5, 9), Fraction(0)),
        "degC": (Fraction(1), Fraction("273.15")),
        "degF": (Fraction(5, 9), Fraction("459.67") * Fraction(5, 9)),
    }
    factor, zero = kelvins[units]
    exact = Fraction(number) * factor + zero
    for other, (its_factor, its_zero) in kelvins.items():
        expected = float((exact - its_zero) / its_factor)
        converted = convert(float(number), units, other)
        if "deg" in units + other:
            assert converted == pytest.approx(expected, rel=1e-12, abs=1e-12)
        if {units, other} & {"degC", "degF"} and units != other:
            assert converted == expected
