"""What each step of a time axis stands for: lengths, sums and coverage, against sums over the
calendar by hand."""

from __future__ import annotations

import warnings

import cftime
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_dataset
from rhodolite import Accumulate, Aggregate, Convert, Subset, Summarise
from rhodolite.arrays import InMemory
from rhodolite.errors import RhodoliteWarning
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import Variable

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
CALENDARS = ("standard", "noleap", "360_day")


def monthly(
    years,
    calendar="standard",
    *,
    day=1,
    units="kg m-2 s-1",
    bounds=False,
    values=None,
    **about,
):
    """Monthly values over some years, one cell; the calendar's own dates and month lengths with
    it."""
    dates = [
        cftime.datetime(y, m, day, calendar=calendar)
        for y in years
        for m in range(1, 13)
    ]
    numbers = cftime.date2num(dates, "days since 1970-01-01", calendar).astype(float)
    starts = [cftime.datetime(d.year, d.month, 1, calendar=calendar) for d in dates]
    stops = [
        cftime.datetime(d.year + d.month // 12, d.month % 12 + 1, 1, calendar=calendar)
        for d in dates
    ]
    ends = cftime.date2num(
        np.array([starts, stops]).T, "days since 1970-01-01", calendar
    ).astype(float)
    values = (
        np.random.default_rng(0).random((len(dates), 1, 1))
        if values is None
        else values
    )
    attributes = {
        "units": units,
        "cell_methods": "time: mean",
        "standard_name": "precipitation_flux",
    } | about
    data = make_dataset(
        values,
        times=numbers,
        calendar=calendar,
        units="days since 1970-01-01",
        name="pr",
        attributes=attributes,
    )
    if bounds:
        time = data.variables["time"].edit(bounds="time_bnds")
        data = data.with_variables(
            [
                time,
                Variable("time_bnds", ("time", "bnds"), InMemory(ends)),
                *(v for v in data.variables.values() if v.name != "time"),
            ]
        )
    return (
        data,
        values[:, 0, 0],
        np.diff(ends, axis=1)[:, 0],
        np.array([d.month for d in dates]),
    )


def series(data, name="pr"):
    return data[name].values().reshape(-1)


@pytest.mark.slow
@given(
    st.sampled_from(CALENDARS),
    st.sampled_from([(1,), (2, 7), (6, 7, 8), (11, 12, 1)]),
    st.booleans(),
    st.sampled_from([1, 15]),
)
def test_chosen_months_keep_their_lengths(calendar, months, bounds, day):
    """Annual amounts of some months alone are their rates times their own days, with and without
    bounds."""
    data, rates, days, number = monthly(
        range(2001, 2005), calendar, day=day, bounds=bounds
    )
    part = Subset(months=",".join(map(str, months)))(data)
    chosen = np.isin(number, months)
    expected = np.where(chosen, rates * days * 86400, 0.0).reshape(-1, 12).sum(axis=1)
    np.testing.assert_allclose(
        series(Aggregate(to="year", statistic="sum")(part)), expected, rtol=1e-6
    )
    mean = np.average(rates[chosen], weights=days[chosen])
    assert series(Summarise(over="time")(part)) == pytest.approx(mean, rel=1e-6)
    months_again = Aggregate(to="month", statistic="sum")(part)
    np.testing.assert_allclose(
        series(months_again), (rates * days * 86400)[chosen], rtol=1e-6
    )


@pytest.mark.parametrize(
    "selection", [{"every": "time=12"}, {"time": "2002-02"}, {"season": "DJF"}]
)
def test_a_selection_says_what_its_steps_stand_for(selection):
    data, rates, days, _ = monthly(range(2001, 2005))
    part = Subset(**selection)(data)
    at = np.searchsorted(data.time.numbers, part.time.numbers)
    np.testing.assert_array_equal(part.time.lengths, days[at])
    totals = series(Aggregate(to="month", statistic="sum")(part))
    np.testing.assert_allclose(totals, (rates * days * 86400)[at], rtol=1e-6)


@given(st.sampled_from(CALENDARS), st.sampled_from(["mean", "sum"]))
def test_two_steps_of_aggregation_are_one(calendar, statistic):
    """Months to seasons to years from December are months to years from December."""
    data, *_ = monthly(range(2001, 2006), calendar)
    twice = Aggregate(to="year", year_start="dec", statistic=statistic)(
        Aggregate(to="season", statistic=statistic)(data)
    )
    once = Aggregate(to="year", year_start="dec", statistic=statistic)(data)
    np.testing.assert_allclose(series(twice), series(once), rtol=1e-6)


def test_years_that_begin_in_july_are_summed_by_their_own_days():
    data, rates, days, _ = monthly(range(2001, 2005))
    years = Aggregate(to="year", year_start="jul")(data)
    whole = Summarise(over="time", statistic="sum")(years)
    assert series(whole) == pytest.approx((rates * days)[6:-6].sum() * 86400, rel=1e-6)


@pytest.mark.parametrize(
    ("stamp", "shift"), [("start", 0), ("middle", 0.5), ("end", 1)]
)
def test_hours_belong_to_the_day_in_which_they_lie(stamp, shift):
    """Hourly amounts stamped anywhere in their hour give the same daily totals, and the end is
    found by itself."""
    values = np.arange(72.0).reshape(-1, 1, 1)
    data = make_dataset(
        values,
        times=np.arange(72) + shift,
        units="hours since 2000-01-01",
        name="pr",
        attributes={"units": "mm", "cell_methods": "time: sum"},
    )
    daily = Aggregate(to="day", statistic="sum", stamp=stamp)(data)
    np.testing.assert_array_equal(series(daily), values.reshape(3, 24).sum(axis=1))
    if stamp == "end":
        with pytest.warns(RhodoliteWarning, match="taken to end at its time"):
            np.testing.assert_array_equal(
                series(Aggregate(to="day", statistic="sum")(data)), series(daily)
            )


@given(st.integers(1, 3000), st.sampled_from(["f4", "f8"]), st.sampled_from([3, 6]))
def test_hours_of_days_counted_from_the_year_one(first, kind, every):
    """Decoded hours are those that went in, although fractions of large numbers of days are
    rounded."""
    day = 719163 + first if kind == "f8" else first
    numbers = (
        (day + np.arange(0, 24, every)[:, None] / 24.0 + np.arange(20))
        .T.reshape(-1)
        .astype(kind)
    )
    axis = TimeAxis(
        numbers.astype("f8"), "days since 0001-01-01", stored=np.dtype(kind)
    )
    assert axis.hours.tolist() == list(range(0, 24, every)) * 20
    assert all(
        (date.minute, date.second, date.microsecond) == (0, 0, 0) for date in axis.dates
    )


def test_totals_that_begin_within_a_year_are_missing():
    """A year whose first day is absent has no running total, whatever day that is (day 2 as well as
    day 40)."""
    for first in (1, 2, 40):
        data = make_dataset(
            np.ones((800, 1, 1)),
            times=np.arange(first - 1, first + 799),
            name="pr",
            attributes={"units": "mm", "cell_methods": "time: sum"},
        )
        total = series(Accumulate()(data))
        assert np.isnan(total[: 366 - first + 1]).all() == (first > 1)
        assert total[-1] == 800 - (366 + 365 - first + 1)


@pytest.mark.parametrize("units", ["mm/month", "mm month-1", "mm year-1"])
def test_amounts_for_each_month_or_year_are_of_its_own_days(units):
    """Those for a month add up without their days and count alike in a mean; those for a year count
    by the part of it that a month is."""
    data, amounts, days, _ = monthly([2003], units=units, standard_name="")
    shares = days / 365 if "year" in units else np.ones(12)
    with warnings.catch_warnings():
        warnings.simplefilter("error", RhodoliteWarning)
        total = Aggregate(to="year", statistic="sum")(data)
        assert (total["pr"].units, series(total)) == (
            "mm",
            pytest.approx((amounts * shares).sum(), rel=1e-6),
        )
        mean = np.average(amounts, weights=shares)
        assert series(Aggregate(to="year")(data)) == pytest.approx(mean, rel=1e-6)
        rates = Convert(units="pr=mm/day")(data)
    np.testing.assert_allclose(series(rates), amounts * shares / days, rtol=1e-6)
    back = Convert(units=f"pr={units}")(rates)
    np.testing.assert_allclose(series(back), amounts, rtol=1e-6)


@pytest.mark.parametrize(
    "about",
    [
        {"units": "m", "standard_name": "lwe_thickness_of_precipitation_amount"},
        {"units": "mm", "long_name": "Total precipitation", "standard_name": ""},
        {"units": "mm", "cell_methods": "time: sum", "standard_name": ""},
    ],
)
def test_water_as_a_length_is_an_amount(about):
    data, amounts, *_ = monthly([2003], **about)
    with warnings.catch_warnings():
        warnings.simplefilter("error", RhodoliteWarning)
        assert series(Aggregate(to="year", statistic="sum")(data)) == pytest.approx(
            amounts.sum(), rel=1e-6
        )
    with pytest.warns(RhodoliteWarning, match="state"):
        Aggregate(to="year", statistic="sum")(
            monthly([2003], units="m", long_name="snow depth", standard_name="")[0]
        )


@pytest.mark.parametrize(("there", "kept"), [(12, True), (11, False), (8, False)])
def test_all_months_of_a_year_are_needed(there, kept):
    data, *_ = monthly(range(2001, 2003))
    annual = series(Aggregate(to="year")(Subset(time=f"..2002-{there:02d}")(data)))
    assert np.isfinite(annual).tolist() == [True, kept]
    with pytest.warns(
        RhodoliteWarning,
        match="in part|missing everywhere" if there < 12 else "in part|",
    ) as caught:
        warnings.warn(RhodoliteWarning("in part"), stacklevel=1)
        Aggregate(to="year", min_coverage=0.5)(Subset(time=f"..2002-{there:02d}")(data))
    assert len(caught) == (1 if there == 12 else 2)
