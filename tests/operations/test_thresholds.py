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
from rhodolite.arrays import InMemory
from rhodolite.model.units.udunits import convert
from rhodolite.model.variable import Variable

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


@pytest.mark.parametrize("kind", ["f4", "f8", "i2"])
@pytest.mark.parametrize(
    "typed", ["30.3", "30.3degC", "30.3 [degC]", "30.3 °C", "86.54degF", "303.45 K"]
)
def test_a_threshold_is_the_same_wherever_it_is_typed(tmp_path, kind, typed):
    """Values of 0.1 to 40 degC, each once, in a field, a column of levels and a series."""
    numbers = np.random.default_rng(4).permutation(np.arange(1, 401))
    about = {"units": "degC"} | ({"scale_factor": 0.1} if kind == "i2" else {})
    values = numbers if kind == "i2" else (numbers / 10).astype(kind)
    path = write_plain(
        tmp_path / "a.nc",
        values.reshape(-1, 1, 1),
        kind=kind,
        times=np.arange(400),
        name="tas",
        attributes=about,
    )
    data, above = rhodolite.read(path), int((numbers > 303).sum())
    counted = data.aggregate(to="400days", statistic=f"count-above {typed}")
    assert counted["tas"].values().sum() == above
    assert len(data.subset(when=f"{path}:tas > {typed}").dates) == above
    peaks = data.extremes(above=typed, apart=1, samples=0, min_values=10)
    clusters = (np.diff((numbers > 303).astype(int), prepend=0) == 1).sum()
    rate = clusters / (400 / 365.9)
    np.testing.assert_allclose(peaks["tas_rate"].values(), rate, rtol=3e-3)
    column = data["tas"].replace(dimensions=("plev", "lat", "lon"))
    levels = Variable("plev", ("plev",), InMemory(np.arange(1000.0, 600, -1)))
    dataset = data.with_variables(
        [column, levels.edit(units="hPa"), data["lat"], data["lon"]]
    )
    first = np.flatnonzero(numbers > 303)[0]
    found = dataset.relevel(find=f"tas > {typed}")["first_plev"].values()
    assert 1000 - first <= found.item() < 1001 - first


@pytest.mark.parametrize("units", ["mm/day", "kg m-2 s-1", "mm"])
@pytest.mark.parametrize("typed", ["20mm", "20 [kg m-2]", "2cm", "20mm/day", "20"])
def test_the_onset_of_rains_takes_an_amount(rng, units, typed):
    """Of three days, so that a rate would be another; a number alone is one in the units of
    amounts."""
    rain = rng.gamma(0.5, 7.0, (730, 1, 1))
    per = {"mm/day": 1.0, "kg m-2 s-1": 1 / 86400, "mm": 1.0}[units]
    data = rhodolite.from_arrays(
        {"pr": rain * per},
        {
            "time": np.datetime64("2001-01-01") + np.arange(730),
            "lat": [50.0],
            "lon": [0.0],
        },
        units={"pr": units},
    )
    if typed == "20mm/day" or (typed == "20" and units != "mm"):
        with pytest.raises(DataError, match="write an amount: rain-onset 20mm"):
            data.indicator(kind=f"rain-onset {typed}", rain="pr")
        return
    found = data.indicator(kind=f"rain-onset {typed}", rain="pr")
    (name,) = (n for n in found if n.endswith("_day"))
    days = rain[:365, 0, 0]
    sums = days + np.append(days[1:], 0) + np.append(days[2:], [0, 0])
    dry = np.array([_longest(days[at : at + 31] < 1) for at in range(330)])
    onset = np.flatnonzero((days[:330] >= 1) & (sums[:330] >= 20) & (dry <= 7))[0] + 1
    assert found[name].values()[0].item() == onset


def _longest(flags):
    lengths = [len(run) for run in "".join("x" if f else " " for f in flags).split()]
    return max(lengths, default=0)
