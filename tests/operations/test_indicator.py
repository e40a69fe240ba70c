"""Indicators of daily weather, against their definitions written out day by day."""

from __future__ import annotations

import datetime
from collections import defaultdict

import cftime
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import make_dataset, run_here, write_plain
from rhodolite import Aggregate, Indicator
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.base_days import choose_base_days
from rhodolite.kernels.daily_percentiles import (
    exceedance_of_rows,
    thresholds_of_days,
)

SINCE = "days since 2001-01-01"
YEARS = (2001, 2002, 2003, 2004)


def spells(flags):
    """First and last day of each spell, one after another."""
    ends = []
    for day, flag in enumerate(flags):
        if flag and (day == 0 or not flags[day - 1]):
            ends.append([day, day])
        elif flag:
            ends[-1][1] = day
    return ends


class Plain:
    """The definitions for one series, a value or NaN for every day of four years."""

    def __init__(self, values, calendar, south=False):
        self.values, self.south = np.asarray(values, float), south
        self.dates = cftime.num2date(range(len(values)), SINCE, calendar=calendar)
        self.years = {y: self.of_year(y) for y in YEARS}
        self.phases = [self.phase(day) for day in range(len(values))]
        self.days_of = defaultdict(list)
        for day, phase in enumerate(self.phases):
            self.days_of[self.dates[day].year, phase].append(day)

    def of_year(self, year):
        return [d for d, date in enumerate(self.dates) if date.year == year]

    def growing(self, year):
        """The days of a growing year, and the first of its second half."""
        begin, middle = (
            ((year, 7), (year + 1, 1)) if self.south else ((year, 1), (year, 7))
        )
        end = (begin[0] + 1, begin[1])
        keys = [(d.year, d.month) for d in self.dates]
        days = [d for d, key in enumerate(keys) if begin <= key < end]
        half = next((d for d in days if keys[d] >= middle), None)
        return days, half

    def each(self, function):
        results = []
        for days in self.years.values():
            lacking = np.isnan(self.values[days]).sum()
            results.append(np.nan if lacking > 15 else function(days))
        return results

    def count(self, test):
        return self.each(lambda days: sum(bool(test(self.values[d])) for d in days))

    def longest(self, test):
        """A spell counts where it ends; a year that lies within one has none."""
        flags = [bool(test(v)) for v in self.values]
        found = spells(flags)

        def of_year(days):
            ended = [b - a + 1 for a, b in found if b in set(days)]
            whole = all(flags[d] for d in days)
            return max(ended) if ended else (np.nan if whole else 0)

        return self.each(of_year)

    def phase(self, day):
        """The calendar day, 29 February with the 28th."""
        date = self.dates[day]
        if date.calendar == "360_day":
            return (date.month - 1) * 30 + date.day - 1
        common = 28 if (date.month, date.day) == (2, 29) else date.day
        return (
            datetime.date(2001, date.month, common) - datetime.date(2001, 1, 1)
        ).days

    def pool(self, phase, window, years):
        size = 360 if self.dates[0].calendar == "360_day" else 365
        near = {(phase + s) % size for s in range(-(window // 2), window // 2 + 1)}
        days = [d for y in years for p in near for d in self.days_of[y, p]]
        values = self.values[days]
        return values[~np.isnan(values)]

    def exceeds(self, day, share, base):
        """The share of choices by which a day lies beyond its percentile."""
        value, year = self.values[day], self.dates[day].year
        if np.isnan(value):
            return np.nan
        others = [y for y in base if y != year]
        choices = [base] if year not in base else [[*others, k] for k in others]
        verdicts = []
        for years in choices:
            pool = self.pool(self.phases[day], 5, years)
            limit = np.quantile(pool, share, method="median_unbiased")
            verdicts.append(value < limit if share < 0.5 else value > limit)
        return np.mean(verdicts)


def series(seed, calendar, cells=2, missing=0.01, rain=False):
    """Days of four years, rounded so that many lie on thresholds."""
    rng = np.random.default_rng(seed)
    length = {"360_day": 1440, "noleap": 1460}.get(calendar, 1461)
    if rain:
        values = np.round(rng.exponential(6, (length, cells)) * 2) / 2
        values[rng.random((length, cells)) < 0.5] = 0.0
    else:
        cycle = 12 * np.sin(np.arange(length) / 365 * 2 * np.pi - 1.7)
        noise = np.cumsum(rng.normal(0, 1.5, (length, cells)), axis=0)
        noise -= np.convolve(noise[:, 0], np.ones(15) / 15, "same")[:, None]
        values = np.round((8 + cycle[:, None] + noise) * 2) / 2
    values[rng.random(values.shape) < missing] = np.nan
    return values


def open_days(values, calendar, rain=False, lats=(50.0, -50.0), **more):
    about = {"units": "degC", "cell_methods": more.pop("methods", "time: minimum")}
    if rain:
        about = {"units": "mm", "standard_name": "precipitation_amount"}
    return make_dataset(
        values[:, :, None],
        lats=np.linspace(*lats, values.shape[1]),
        calendar=calendar,
        units=SINCE,
        name="pr" if rain else "tas",
        attributes=about | more,
    )


def ask(data, kind, name=None, **options):
    result = Indicator(kind=kind, **options)(data)
    variable = result.variables[name or kind.split(" ")[0].replace("-", "_")]
    return Engine().compute(variable.data)[..., 0]


CALENDARS = st.sampled_from(["standard", "noleap", "360_day"])


@settings(max_examples=6)
@given(st.integers(0, 10**6), CALENDARS, st.sampled_from([0.01, 0.05]))
def test_counts_extremes_and_totals_are_those_of_their_definitions(
    seed, calendar, gaps
):
    values = series(seed, calendar, missing=gaps)
    data = open_days(values, calendar)
    warm = open_days(values, calendar, methods="time: maximum")
    plain = [Plain(values[:, c], calendar) for c in range(2)]
    for kind, source, test in (
        ("FD", data, lambda v: v < 0),
        ("TR", data, lambda v: v > 20),
        ("SU", warm, lambda v: v > 25),
        ("ID", warm, lambda v: v < 0),
        ("SU 10.5degC", warm, lambda v: v > 10.5),
    ):
        name = "SU_10_5degC" if " " in kind else kind
        expected = np.transpose([p.count(test) for p in plain])
        np.testing.assert_array_equal(ask(source, kind, name), expected)
    for kind, function in (("TNx", np.nanmax), ("TNn", np.nanmin)):
        expected = np.transpose(
            [p.each(lambda d, p=p, f=function: f(p.values[d])) for p in plain]
        )
        np.testing.assert_array_equal(ask(data, kind), expected)
    mean = open_days(values, calendar, methods="time: mean")
    for kind, excess in (
        ("heating-degree-days", lambda v: np.maximum(18 - v, 0)),
        ("cooling-degree-days", lambda v: np.maximum(v - 18, 0)),
        ("growing-degree-days", lambda v: np.maximum(v - 10, 0)),
    ):
        expected = np.transpose(
            [p.each(lambda d, p=p, e=excess: np.nansum(e(p.values[d]))) for p in plain]
        )
        np.testing.assert_allclose(ask(mean, kind), expected, rtol=1e-13)


@settings(max_examples=6)
@given(st.integers(0, 10**6), CALENDARS)
def test_indicators_of_rain_are_those_of_their_definitions(seed, calendar):
    values = series(seed, calendar, rain=True)
    values[300:420, 1] = 0.0  # a dry spell across the turn of the year
    data = open_days(values, calendar, rain=True)
    plain = [Plain(values[:, c], calendar) for c in range(2)]

    def check(kind, function, tolerance=1e-13):
        expected = np.transpose([function(p) for p in plain])
        np.testing.assert_allclose(ask(data, kind), expected, rtol=tolerance)

    check("R10mm", lambda p: p.count(lambda v: v >= 10))
    check("CDD", lambda p: p.longest(lambda v: v < 1))
    check("CWD", lambda p: p.longest(lambda v: v >= 1))
    check("Rx1day", lambda p: p.each(lambda d: np.nanmax(p.values[d])))
    check("PRCPTOT", lambda p: p.each(lambda d: _wet(p, d).sum()))
    check("SDII", lambda p: p.each(lambda d: _wet(p, d).mean()))

    def five(p, days):
        sums = [p.values[d - 4 : d + 1].sum() for d in days if d >= 4]
        return np.nanmax(sums)

    check("Rx5day", lambda p: p.each(lambda d: five(p, d)))

    def heavy(p, share, days):
        everything = _wet(p, range(len(p.values)))
        limit = np.quantile(everything, share, method="median_unbiased")
        return (wet := _wet(p, days))[wet > limit].sum()

    check("R95pTOT", lambda p: p.each(lambda d: heavy(p, 0.95, d)))
    check("R99pTOT", lambda p: p.each(lambda d: heavy(p, 0.99, d)))

    def onset(p, days):
        values = p.values
        for d in days:
            amount = values[d : d + 3].sum()
            after = values[d + 1 : d + 31]
            if len(after) < 30 or not (values[d] >= 1 and amount >= 20):
                continue
            if all(b - a + 1 <= 7 for a, b in spells([v < 1 for v in after])):
                return d - days[0] + 1
        return np.nan

    expected = np.transpose([p.each(lambda d, p=p: onset(p, d)) for p in plain])
    actual = ask(data, "rain-onset", "rain_onset_day")
    np.testing.assert_array_equal(actual, expected)


def _wet(plain, days):
    values = plain.values[list(days)]
    return values[values >= 1]


@settings(max_examples=4)
@given(st.integers(0, 10**6), CALENDARS, st.booleans())
def test_growing_seasons_and_frosts_follow_the_year_of_each_hemisphere(
    seed, calendar, start
):
    values = series(seed, calendar, cells=4)
    shift = 182 if start else 0
    values[:, 2:] = np.roll(values[:, 2:], shift, axis=0)
    data = open_days(values, calendar, methods="time: mean")
    cold = open_days(values, calendar)
    plain = [Plain(values[:, c], calendar, south=c > 1) for c in range(4)]

    def first_spell(p, days, test):
        flags = [bool(test(p.values[d])) for d in days]
        starts = [days[a] for a, b in spells(flags) if b - a >= 5]
        return starts[0] if starts else None

    def season(p, year):
        days, half = p.growing(year)
        begin = first_spell(p, days, lambda v: v > 5)
        later = [] if half is None else [d for d in days if d >= half]
        end = first_spell(p, later, lambda v: v < 5)
        return days, half, begin, end

    def length(p, year):
        days, _, begin, end = season(p, year)
        end = days[-1] + 1 if end is None else end
        return 0 if begin is None else max(end - begin, 0)

    def frost(p, year, late):
        days, half, *_ = season(p, year)
        frosty = [d for d in days if p.values[d] < 0 and (d >= half) == late]
        if not frosty:
            return np.nan
        return (frosty[0] if late else frosty[-1]) - days[0] + 1

    def table(function):
        rows = []
        for p in plain:
            row = []
            for year in YEARS:
                days, _ = p.growing(year)
                lacking = 365 - len(days) + np.isnan(p.values[days]).sum()
                row.append(np.nan if lacking > 21 else function(p, year))
            rows.append(row)
        return np.transpose(rows)

    np.testing.assert_array_equal(ask(data, "GSL", missing_days=16), table(length))
    for kind, late in (("last-spring-frost", False), ("first-autumn-frost", True)):
        name = f"{kind.replace('-', '_')}_day"
        expected = table(lambda p, y, late=late: frost(p, y, late))
        np.testing.assert_array_equal(ask(cold, kind, name, missing_days=16), expected)
    dates = ask(cold, "last-spring-frost", missing_days=16)
    day = ask(cold, "last-spring-frost", "last_spring_frost_day", missing_days=16)
    firsts = [[p.growing(y)[0][0] for p in plain] for y in YEARS]
    np.testing.assert_array_equal(dates, np.array(firsts) + day - 1)


@settings(max_examples=2)
@given(st.integers(0, 10**6), CALENDARS, st.sampled_from(["TN10p", "TN90p"]))
def test_days_beyond_percentiles_are_counted_by_the_bootstrap_of_the_base(
    seed, calendar, kind
):
    """NumPy's definition 8 of each choice of years, as Zhang and others 2005 describe it."""
    values = series(seed, calendar, cells=1)
    share = int(kind[2:4]) / 100
    data = open_days(values, calendar, lats=(50.0, 50.0))
    plain = Plain(values[:, 0], calendar)
    base = [2001, 2002, 2003]
    share_of = {
        d: plain.exceeds(d, share, base) for y in (2002, 2004) for d in plain.years[y]
    }
    actual = ask(data, kind, base="2001..2003")[:, 0]
    for row, year in ((1, 2002), (3, 2004)):
        days = plain.years[year]
        if np.isnan(values[days]).sum() <= 15:
            expected = 100 * np.nanmean([share_of[d] for d in days])
            assert actual[row] == pytest.approx(expected, rel=1e-12)


@settings(max_examples=2)
@given(st.integers(0, 10**6), CALENDARS)
def test_spells_and_heat_waves_are_runs_of_days_beyond_percentiles(seed, calendar):
    values = series(seed, calendar, cells=1)
    data = open_days(values, calendar, lats=(50.0, 50.0), methods="time: maximum")
    plain = Plain(values[:, 0], calendar)

    limits = {}

    def runs(days, window, length):
        flags = []
        for d in days:
            key = window, plain.phases[d]
            if key not in limits:
                pool = plain.pool(plain.phases[d], window, YEARS)
                limits[key] = np.quantile(pool, 0.9, method="median_unbiased")
            flags.append(bool(values[d, 0] > limits[key]))
        return [(a, b) for a, b in spells(flags) if b - a + 1 >= length]

    def days_in(days, window, length):
        return sum(b - a + 1 for a, b in runs(days, window, length))

    def hottest(days):
        inside = [values[days[a] : days[b] + 1, 0].max() for a, b in runs(days, 15, 3)]
        return max(inside, default=np.nan)

    for kind, function in (
        ("WSDI", lambda d: days_in(d, 5, 6)),
        ("heat-waves", lambda d: len(runs(d, 15, 3))),
        ("heat-wave-days", lambda d: days_in(d, 15, 3)),
        (
            "longest-heat-wave",
            lambda d: max((b - a + 1 for a, b in runs(d, 15, 3)), default=0),
        ),
        ("hottest-of-heat-waves", hottest),
    ):
        np.testing.assert_array_equal(ask(data, kind)[:, 0], plain.each(function))


def test_what_another_verb_counts_is_the_same():
    values = series(1, "standard", missing=0.0)
    data = open_days(values, "standard")
    counted = Aggregate(to="month", statistic="count-below 0degC")(data)
    expected = Engine().compute(counted["tas"].data)[..., 0]
    np.testing.assert_array_equal(ask(data, "FD", to="month"), expected)
    highest = Engine().compute(
        Aggregate(to="season", statistic="max")(data)["tas"].data
    )
    ours = ask(data, "TNx", to="season", missing_days=40)
    np.testing.assert_array_equal(ours, highest[..., 0])
    months = ask(data, "FD", to="month").reshape(4, 12, 2).sum(axis=1)
    np.testing.assert_array_equal(ask(data, "FD"), months)


def test_units_order_and_precision_change_nothing():
    values = series(3, "standard", missing=0.01)
    rain = series(4, "standard", rain=True)
    data = open_days(values, "standard")
    expected = {k: ask(data, k) for k in ("FD", "TN90p", "CSDI")}
    totals = {
        k: ask(open_days(rain, "standard", rain=True), k) for k in ("CDD", "Rx5day")
    }
    kelvin = open_days(values + 273.15, "standard", units="K")
    backwards = make_dataset(
        (values[::-1, :, None]).astype("f4"),
        times=np.arange(1461)[::-1] + 0.5,
        lats=[50.0, -50.0],
        units=SINCE,
        attributes={"units": "degC", "cell_methods": "time: minimum"},
    )
    for other in (kelvin, backwards):
        for kind, numbers in expected.items():
            np.testing.assert_allclose(ask(other, kind), numbers, rtol=1e-6)
    rate = open_days(
        (rain / 86400).astype("f4"),
        "standard",
        rain=True,
        units="kg m-2 s-1",
        standard_name="precipitation_flux",
    )
    for kind, numbers in totals.items():
        np.testing.assert_allclose(ask(rate, kind), numbers, rtol=1e-6)


def test_the_range_and_the_mean_are_made_of_the_two_extremes():
    low, high = series(5, "standard"), series(6, "standard") + 9
    data = open_days(low, "standard")
    both = data.with_variables(
        [
            *(v for v in data.variables.values() if v.name != "tas"),
            data["tas"].replace(name="tasmin"),
            open_days(high + 273.15, "standard", methods="time: maximum", units="K")[
                "tas"
            ].replace(name="tasmax"),
        ]
    )
    plain = [Plain(high[:, c] - low[:, c], "standard") for c in range(2)]
    expected = [p.each(lambda d, p=p: np.nanmean(p.values[d])) for p in plain]
    np.testing.assert_allclose(ask(both, "DTR"), np.transpose(expected), rtol=1e-11)
    middle = (low + high) / 2
    mean = open_days(middle, "standard", methods="time: mean")
    np.testing.assert_array_equal(ask(both, "GSL"), ask(mean, "GSL"))


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({}, "--kind FD"),
        ({"kind": "FX"}, "'FX' is not offered"),
        ({"kind": "FD,FD"}, "twice"),
        ({"kind": "CDD 3mm"}, "has the threshold of its definition"),
        ({"kind": "GSL", "to": "month"}, "of a year"),
        ({"kind": "FD", "to": "decade"}, "year, season or month"),
        ({"kind": "FD", "missing_days": -1}, "0 or more"),
    ],
)
def test_what_cannot_be_asked_is_refused(options, words):
    with pytest.raises((UsageError, ValueError), match=words):
        Indicator(**options)


def test_data_that_do_not_fit_are_refused():
    values = series(7, "standard")
    data = open_days(values, "standard")
    for kind, words in (
        ("SU", "--highest"),
        ("CDD", "--rain"),
        ("FD 5mm", "cannot be converted"),
    ):
        with pytest.raises(DataError, match=words):
            Indicator(kind=kind)(data)
    rain = open_days(series(8, "standard", rain=True), "standard", rain=True)
    for units in ("mm month-1", "1"):
        odd = rain.with_variables(
            v.edit(units=units) if v.name == "pr" else v
            for v in rain.variables.values()
        )
        for kind in ("Rx5day", "CDD"):
            with pytest.raises(DataError, match="is in"):
                Indicator(kind=kind, rain="pr")(odd)
    with pytest.raises(DataError, match="no variable 'x'"):
        Indicator(kind="SU", highest="x")(data)
    hourly = make_dataset(np.zeros((48, 1, 1)), times=np.arange(48) / 24)
    with pytest.raises(DataError, match="aggregate --to day"):
        Indicator(kind="FD", lowest="tas")(hourly)


def test_a_user_reads_dates_of_frosts_and_counts_of_days(tmp_path):
    days = np.arange(730)
    values = 10 - 12 * np.cos(days / 365 * 2 * np.pi)
    write_plain(
        tmp_path / "d.nc",
        values[:, None, None].astype("f4"),
        units=SINCE,
        attributes={"units": "degC", "cell_methods": "time: minimum"},
    )
    words = "indicator d.nc --kind FD,last-spring-frost,SU --highest tas -o i.csv"
    answer = run_here(*words.split(), folder=tmp_path)
    assert answer.code == 0, answer.err
    lines = (tmp_path / "i.csv").read_text().splitlines()
    frost = int((values[:365].astype("f4") < 0).sum())
    last = int(np.flatnonzero(values[:181].astype("f4") < 0).max())
    date = (datetime.date(2001, 1, 1) + datetime.timedelta(days=last)).isoformat()
    assert lines[1] == f"2001,0.0,0.0,{frost}.0,{date},{last + 1}.0,0.0"


@settings(max_examples=6)
@given(
    st.integers(0, 10**6),
    st.sampled_from([(0.1, True), (0.5, False), (0.9, False)]),
    st.sampled_from([1, 5, 15]),
)
def test_compiled_percentiles_of_days_are_those_of_numpy_to_the_bit(
    seed, asked, window
):
    rng = np.random.default_rng(seed)
    rows = np.round(rng.normal(0, 3, (3, 250)) * 4) / 4
    rows[rng.random(rows.shape) < 0.05] = np.nan
    year = np.where(np.arange(250) < 200, np.arange(250) // 50, -1)
    days = choose_base_days(np.arange(250) % 50, year, 50, window)
    share, below = asked
    compiled = (
        exceedance_of_rows(rows, days, share, below, 0.8),
        thresholds_of_days(rows.T.copy(), days, share, 0.8),
    )
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("rhodolite.kernels.daily_percentiles.can_compile", lambda: False)
        plain = (
            exceedance_of_rows(rows, days, share, below, 0.8),
            thresholds_of_days(rows.T.copy(), days, share, 0.8),
        )
    for ours, theirs in zip(compiled, plain, strict=True):
        np.testing.assert_array_equal(ours, theirs)
