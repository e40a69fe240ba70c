"""Time axes in every calendar, against cftime's own dates and cases worked out by hand."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

import cftime
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_dataset
from rhodolite.errors import DataError, RhodoliteWarning
from rhodolite.formats.text.dates import parse_date, time_variables
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.calendar_days import first_days, months_of_days
from rhodolite.model.time.calendar_parts import CalendarParts
from rhodolite.model.time.period_text import Period, Season
from rhodolite.model.time.steps_of_periods import steps_covering, steps_within
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_labels import time_labels
from rhodolite.model.time.time_units import DAY_TICKS

CALENDARS = (
    "standard",
    "proleptic_gregorian",
    "noleap",
    "all_leap",
    "360_day",
    "julian",
)


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
        (
            f"{year}-{month}-07..",
            lambda d: d >= cftime.datetime(year, month, 7, calendar=calendar),
        ),
        (f"..{year}-{month}", lambda d: (d.year, d.month) <= (year, month)),
    ):
        chosen = steps_within(days, Period.parse(text))
        assert chosen.tolist() == [test(date) for date in days.dates]


@given(st.sampled_from(CALENDARS), st.integers(1600, 2300))
def test_a_calendar_year_is_exactly_one_decimal_year(calendar, year):
    starts = [cftime.datetime(y, 1, 1, calendar=calendar) for y in (year, year + 1)]
    units = "hours since 1850-01-01"
    decimal = axis(
        cftime.date2num(starts, units, calendar), units, calendar
    ).decimal_years
    assert decimal.tolist() == [
        year + 0.5,
        year + 1.5,
    ]  # the middles of what the stamps begin


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
    assert steps_within(ends, Period.parse("2000-01")).tolist() == [True, False]


def test_december_counts_for_the_winter_of_the_next_year():
    days = axis([334, 366, 397], "days since 2000-01-01")
    winter = Season.parse("DJF")
    assert days.months.tolist() == [11, 1, 2]
    assert axis([335, 366]).season_years(winter.late_months).tolist() == [2001, 2001]


@pytest.mark.parametrize(
    ("units", "calendar"),
    [
        ("days", "standard"),
        ("days since yesterday", "standard"),
        ("days since 2000-01-01", "moon"),
    ],
)
def test_time_that_cannot_be_read_is_refused(units, calendar):
    from conftest import make_dataset

    data = make_dataset(np.zeros((2, 2, 2)), units=units, calendar=calendar)
    if " since " not in units:
        assert data.time is None
        return
    with pytest.raises(DataError, match=r"cannot be read|there is no calendar"):
        _ = data.time


def test_a_day_that_the_calendar_lacks_is_refused():
    with pytest.raises(
        DataError, match="not a day of the data's calendar \\(noleap\\)"
    ):
        steps_within(axis([0, 1], calendar="noleap"), Period.parse("2000-02-29"))


@given(
    st.sampled_from(["standard", "noleap"]),
    st.sampled_from(["months", "years"]),
    st.integers(-400, 400),
    st.sampled_from([("01", 1, 0), ("15 06:00", 15, 6), ("28", 28, 0)]),
)
def test_months_and_years_are_counted_by_the_calendar(calendar, unit, number, since):
    months = number if unit == "months" else 12 * number
    date, day, hour = since
    found = axis([number, number + 0.25], f"{unit} since 1900-03-{date}", calendar)
    first = found.dates[0]
    counted = first.year * 12 + first.month, first.day, first.hour
    assert counted == (1900 * 12 + 3 + months, day, hour)
    np.testing.assert_allclose(
        found.to_numbers(found.dates), [number, number + 0.25], atol=1e-9
    )
    alone = axis([number], f"{unit} since 1900-03-{date}", calendar)
    month = Period.parse(f"{first.year:04d}-{first.month:02d}")
    assert steps_within(alone, month).tolist() == [True]


_PENTADS = [date(2001, 1, 1) + timedelta(5 * k) for k in range(73)]


@pytest.mark.parametrize(
    ("parts", "middle", "shown"),
    [
        (
            [(m, d) for m in range(1, 13) for d in (1, 11, 21)],
            5,
            "3 steps in each month",
        ),
        ([(m, d) for m in range(1, 13) for d in (1, 16)], 7, "2 steps in each month"),
        ([(1, 1 + 8 * k) for k in range(46)], None, "46 steps in each year"),
        ([(1, 1 + 16 * k) for k in range(23)], None, "23 steps in each year"),
        ([(day.month, day.day) for day in _PENTADS], None, "73 steps in each year"),
    ],
)
def test_parts_of_months_and_years_reach_to_the_next(parts, middle, shown):
    """Dekads, half months, composites, and pentads of the same dates in leap years, by their first
    days, last days or middles, with some left out; against the distance to the next one."""
    days = [
        date(year, month, 1) + timedelta(day - 1)
        for year in range(2003, 2009)
        for month, day in parts
    ]
    begins = np.array(days, dtype="M8[D]").astype(int)
    ends = np.append(begins[1:], np.datetime64("2009-01-01", "D").astype(int))
    there = np.arange(begins.size) % 11 != 7
    for times in (begins, ends - 1, None if middle is None else begins + middle):
        if times is None:
            continue
        found = axis(times[there], "days since 1970-01-01")
        np.testing.assert_array_equal(found.cells, np.stack([begins, ends], 1)[there])
        centres = (begins + ends)[there] / 2
        np.testing.assert_array_equal(found.middles, centres)
    known = CalendarParts.find(found.cell_ticks[:, 0] // DAY_TICKS, "standard")
    assert str(known) == shown
    missing = np.sum(~there[: np.flatnonzero(there)[-1]])
    assert known.count_missing(found.cell_ticks[:, 0] // DAY_TICKS) == missing


@pytest.mark.parametrize(
    "texts",
    [
        ("2001-01-03", "2001-01-19", "2001-02-03", "2001-02-17", "2001-03-09"),
        ("2001-01-01", "2001-01-20", "2001-02-01", "2001-02-03", "2001-03-01"),
        ("2001-01-01T06", "2001-01-11T06", "2001-01-21T06", "2001-02-01T06"),
    ],
)
def test_other_irregular_steps_are_of_unknown_length(texts):
    ticks = [np.datetime64(text, "h").astype(float) for text in texts]
    assert axis(ticks, "hours since 1970-01-01").lengths is None


def test_a_week_belongs_to_the_month_of_its_middle_with_bounds_or_without():
    begins = np.arange(0.0, 700, 7)
    plain = axis(begins, "days since 2001-01-01")
    bounded = replace(plain, bounds=np.stack([begins, begins + 7], 1))
    stamped = replace(bounded, numbers=begins + 7)
    for other in (bounded, stamped):
        np.testing.assert_array_equal(plain.month_numbers, other.month_numbers)
        np.testing.assert_array_equal(plain.middles, other.middles)
        assert plain.span == other.span
    day = Period.parse("2001-02-01")  # of the week of 29 January
    assert np.flatnonzero(steps_covering(plain, day)).tolist() == [4]
    assert steps_within(plain, day).sum() == 1
    assert not steps_within(plain, Period.parse("2001-02-02")).any()
    assert not steps_covering(plain, Period.parse("2001-02-02..2001-02-05")).any()


@pytest.mark.parametrize("months", [2, 3, 6, 12])
def test_steps_of_several_months_are_of_one_with_bounds_or_without(months):
    """A step of November and December is of December, and a year of no season."""
    first = np.datetime64("2001-01") + np.arange(0, 120, months)
    begins, ends = (
        m.astype("M8[D]").astype(float)
        for m in (first, first + np.timedelta64(months, "M"))
    )
    plain = axis(begins, "days since 1970-01-01")
    bounded = replace(plain, bounds=np.stack([begins, ends], 1))
    assert plain.step == bounded.step
    np.testing.assert_array_equal(plain.month_numbers, bounded.month_numbers)
    np.testing.assert_array_equal(plain.middles, bounded.middles)


def test_months_counted_from_a_day_that_some_lack_are_refused():
    with pytest.raises(ValueError, match="from day 31 of one, which not all of them"):
        axis([1], "months since 1900-01-31").to_dates(np.array([1.0]))


@given(st.sampled_from(CALENDARS), st.integers(0, 900_000))
def test_months_and_days_are_those_of_the_calendar_library(calendar, first):
    """Against cftime, from the year 1 on, over the days that the standard calendar left out."""
    for start in (first, 577_600):
        days = np.arange(start, start + 300)
        dates = cftime.num2date(days, "days since 0001-01-01", calendar)
        months, day = months_of_days(days, calendar)
        assert [(d.year * 12 + d.month - 1, d.day) for d in dates] == [
            *zip(months.tolist(), day.tolist(), strict=True)
        ]
        starts = [
            cftime.datetime(int(at) // 12, int(at) % 12 + 1, 1, calendar=calendar)
            for at in np.unique(months)
        ]
        expected = cftime.date2num(starts, "days since 0001-01-01", calendar)
        assert first_days(np.unique(months), calendar).tolist() == list(expected)


STRIDES = [1, 7, 10, 60, 600, 900, 3600, 7200, 10800, 21600, 43200]


@pytest.mark.parametrize("seconds", STRIDES)
@pytest.mark.parametrize("units", ["days", "hours", "minutes", "seconds"])
def test_steps_of_every_stride_of_a_day_begin_at_their_times(seconds, units):
    """In whatever units and from whatever day they are counted."""
    per_unit = {"days": 86400, "hours": 3600, "minutes": 60, "seconds": 1}[units]
    numbers = (
        43_000 * 86400 + np.arange(min(200, 86400 // seconds)) * seconds
    ) / per_unit
    stepped = axis(numbers, f"{units} since 1900-01-01", "standard")
    cells = stepped.cell_ticks
    assert (cells[:, 0] == stepped.ticks).all()
    assert (cells[:, 1] - cells[:, 0] == seconds * 1_000_000).all()
    assert stepped.to_dates(stepped.cells[:1])[0, 0] == stepped.dates[0]


def test_steps_below_a_second_are_steps():
    fine = axis(np.arange(50) * 0.25, "seconds since 2001-01-01", "standard")
    assert str(fine.step) == "every 250 milliseconds"
    assert np.diff(fine.cells, axis=1).ravel().tolist() == [0.25] * 50


def test_hours_that_run_to_midnight_are_of_the_day_before_everywhere():
    """In months, in sums and in running totals, which restart with the same step."""
    rain = np.ones((24 * 62, 1, 1))
    data = make_dataset(
        rain,
        times=np.arange(1, 24 * 62 + 1),
        units="hours since 2001-01-01",
        name="pr",
        attributes={"units": "mm", "cell_methods": "time: sum", "standard_name": ""},
    )
    with pytest.warns(RhodoliteWarning, match="taken to end at its time"):
        total = data.accumulate(reset="month")["pr"].values().ravel()
        assert (total[0], total[31 * 24 - 1], total[31 * 24]) == (1, 744, 1)
        assert (
            data.aggregate(to="day", statistic="sum")["pr"].values().ravel().tolist()
            == [24] * 62
        )
        assert len(data.subset(months="jan").time) == 744
    begun = data.accumulate(reset="month", stamp="start")["pr"].values().ravel()
    assert np.isnan(begun[0])  # the first hour of the month is not there


def test_a_year_that_begins_in_another_month_is_called_after_its_end():
    """In labels, selection, splitting by year, inspection and matching."""
    data = make_dataset(
        np.arange(36.0)[:, None, None],
        times=np.arange(36) * 30 + 15,
        calendar="360_day",
        units="days since 2000-02-01",
    )
    years = data.aggregate(to="year", year_start="feb")
    assert time_labels(years.time) == ["2001", "2002", "2003"]
    assert years.time.named_years.tolist() == [2001, 2002, 2003]
    assert time_labels(years.subset(years="2002").time) == ["2002"]
    assert time_labels(years.subset(time="2002..").time) == ["2002", "2003"]
    matched = years.compare(with_=years.subset(years="2002..2003"))
    assert time_labels(matched.time) == ["2002", "2003"]


def test_the_first_years_of_the_calendar_have_seasons():
    for calendar in ("standard", "noleap"):
        data = make_dataset(
            np.ones((800, 1, 1)),
            units="days since 0001-01-01",
            calendar=calendar,
            attributes={
                "units": "mm",
                "cell_methods": "time: sum",
                "standard_name": "",
            },
        )
        seasons = data.aggregate(to="season", statistic="sum", min_coverage=0)
        assert seasons["tas"].values().ravel()[:2].tolist() == [59, 92]
        assert np.nansum(data.accumulate()["tas"].values()) > 0
        named = data.aggregate(
            to="year", year_start="oct", min_coverage=0
        ).time.named_years
        assert named.tolist()[:2] == [1, 2]


def test_thirty_years_of_any_calendar_are_thirty_years():
    for calendar in ("360_day", "noleap", "standard"):
        data = make_dataset(
            np.ones((30 * 365, 1, 1)), units="days since 2031-01-01", calendar=calendar
        )
        mean = data.climatology(cycle="none", base="2031..2058", min_years=1)
        assert str(mean.time.resolution) == "every 28 years"


@given(
    st.sampled_from(CALENDARS),
    st.sampled_from(["5days", "month", "season", "year", "6hour"]),
)
def test_what_a_step_covers_survives_a_table(calendar, interval):
    """The ends of every step come back from its text, in its calendar."""
    hourly = interval == "6hour"
    data = make_dataset(
        np.arange(800.0)[:, None, None],
        calendar=calendar,
        units=f"{'hours' if hourly else 'days'} since 2001-01-01",
    )
    data = data.aggregate(to=interval, min_coverage=0).summarise()
    labels = time_labels(data.time)
    back = time_variables([parse_date(text) for text in labels], calendar)
    again = Dataset({v.name: v for v in back}).time
    np.testing.assert_array_equal(again.cell_ticks, data.time.cell_ticks)
