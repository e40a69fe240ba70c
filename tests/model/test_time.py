"""Time axes in every calendar, against cftime's own dates and cases worked out by hand."""

from __future__ import annotations

import cftime
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rhodolite.errors import DataError
from rhodolite.model.time.period_text import Period, Season
from rhodolite.model.time.time_axis import TimeAxis

CALENDARS = ("standard", "proleptic_gregorian", "noleap", "all_leap", "360_day", "julian")


def axis(numbers, units="days since 2000-01-01", calendar="standard", bounds=None):
    return TimeAxis(
        np.asarray(numbers, float),
        units,
        calendar,
        None if bounds is None else np.asarray(bounds, float),
    )


@given(st.sampled_from(CALENDARS), st.integers(1600, 2300), st.integers(1, 12))
def test_a_period_holds_just_its_days(calendar, year, month):
    days = axis(np.arange(-40, 800), f"days since {year}-01-01", calendar)
    for text, test in (
        (f"{year}", lambda d: d.year == year),
        (f"{year}-{month}", lambda d: (d.year, d.month) == (year, month)),
        (f"{year}-{month}-07..", lambda d: d >= cftime.datetime(year, month, 7, calendar=calendar)),
        (f"..{year}-{month}", lambda d: (d.year, d.month) <= (year, month)),
    ):
        chosen = days.within(Period.parse(text))
        assert chosen.tolist() == [test(date) for date in days.dates]


@given(st.sampled_from(CALENDARS), st.integers(1600, 2300))
def test_a_calendar_year_is_exactly_one_decimal_year(calendar, year):
    starts = [cftime.datetime(y, 1, 1, calendar=calendar) for y in (year, year + 1)]
    units = "hours since 1850-01-01"
    decimal = axis(cftime.date2num(starts, units, calendar), units, calendar).decimal_years
    assert decimal.tolist() == [year + 0.5, year + 1.5]  # the middles of what the stamps begin


def test_decimal_years_by_hand():
    assert axis([0.5 * 365 + 366], calendar="standard").decimal_years[0] == 2001.5
    assert axis([15], calendar="360_day").decimal_years[0] == 2000 + 15 / 360


@pytest.mark.parametrize(
    ("numbers", "units", "calendar", "step", "missing"),
    [
        ([0, 1, 2, 5], "days since 2000-02-27", "standard", "every day", 2),
        ([0, 6, 12, 18], "hours since 2000-01-01", "noleap", "every 6 hours", 0),
        ([0, 31, 60, 91], "days since 2000-01-01", "standard", "every month", 0),
        ([15, 45, 75, 135], "days since 2000-01-01", "360_day", "every month", 1),
        ([0, 366, 731], "days since 2000-01-01", "standard", "every year", 0),
        ([0, 90, 180, 270], "days since 2000-01-01", "360_day", "every 3 months", 0),
        ([0, 30, 60], "minutes since 2000-01-01", "standard", "every 30 minutes", 0),
        ([0, 1, 2.5, 7.1], "days since 2000-01-01", "standard", "irregular steps", 0),
        ([0], "days since 2000-01-01", "standard", "one time", 0),
    ],
)
def test_the_sampling_step_is_found(numbers, units, calendar, step, missing):
    found = axis(numbers, units, calendar).step
    assert (str(found), found.missing) == (step, missing)


def test_a_mean_stamped_with_the_end_of_its_month_belongs_to_that_month():
    ends = axis([31, 60], bounds=[[0, 31], [31, 60]])
    assert ends.months.tolist() == [1, 2]
    assert ends.within(Period.parse("2000-01")).tolist() == [True, False]


def test_december_counts_for_the_winter_of_the_next_year():
    days = axis([334, 366, 397], "days since 2000-01-01")
    winter = Season.parse("DJF")
    assert days.months.tolist() == [11, 1, 2]
    assert axis([335, 366]).season_years(winter.late_months).tolist() == [2001, 2001]


@pytest.mark.parametrize(
    ("units", "calendar"),
    [("days", "standard"), ("days since yesterday", "standard"), ("days since 2000-01-01", "moon")],
)
def test_time_that_cannot_be_read_is_refused(units, calendar):
    from conftest import make_dataset

    data = make_dataset(np.zeros((2, 2, 2)), units=units, calendar=calendar)
    if " since " not in units:
        assert data.time is None
        return
    with pytest.raises(DataError, match="cannot be read"):
        _ = data.time


def test_a_day_that_the_calendar_lacks_is_refused():
    with pytest.raises(DataError, match="not a day of the data's calendar \\(noleap\\)"):
        axis([0, 1], calendar="noleap").within(Period.parse("2000-02-29"))


@given(
    st.sampled_from(["standard", "noleap"]),
    st.sampled_from(["months", "years"]),
    st.integers(-400, 400),
)
def test_months_and_years_are_counted_by_the_calendar(calendar, unit, number):
    months = number if unit == "months" else 12 * number
    found = axis([number, number + 0.5], f"{unit} since 1900-03-01", calendar)
    first = found.dates[0]
    assert (first.year * 12 + first.month, first.day, first.hour) == (1900 * 12 + 3 + months, 1, 0)
    np.testing.assert_allclose(found.to_numbers(found.dates), [number, number + 0.5], atol=1e-9)
    assert found.within(Period.parse(f"{first.year:04d}-{first.month:02d}")).tolist()[0]


def test_months_that_do_not_begin_with_a_month_are_refused():
    with pytest.raises(ValueError, match="only be counted from the first of a month"):
        axis([1], "months since 1900-01-15").to_dates(np.array([1.0]))
