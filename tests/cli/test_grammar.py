"""How people write times and places: what is understood, what comes back, what is refused and
how."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rhodolite.drawing.options import Limits, Size
from rhodolite.model.space.range_text import (
    Every,
    LatitudeRange,
    Levels,
    LongitudeRange,
    Position,
)
from rhodolite.model.time.period_text import Instant, Months, Period, Season, Years

degrees = st.integers(-900, 900).map(lambda tenth: tenth / 10)


@given(
    st.sampled_from(
        [
            (Period, "1991..2020"),
            (Period, "2003-07"),
            (Period, "2001.."),
            (Period, "..1999-12-31T06"),
            (Months, "nov,dec,jan,feb,mar"),
            (Season, "DJF"),
            (Season, "JJAS"),
            (Season, "jan..jan"),
            (Season, "JJ"),
            (Years, "2010,2015..2018,2030.."),
            (LatitudeRange, "35S..10N"),
            (LatitudeRange, "60N"),
            (LongitudeRange, "170E..160W"),
            (Position, "64.1N,21.9W"),
            (Levels, "850hPa,500hPa..300hPa"),
            (Levels, "2.."),
            (Every, "time=12,lat=2"),
            (Limits, "-2..2"),
            (Limits, "0.."),
            (Size, "1280x800"),
        ]
    )
)
def test_what_is_written_reads_back_the_same(case):
    kind, text = case
    assert str(kind.parse(text)) == text
    assert kind.parse(str(kind.parse(text))) == kind.parse(text)


@given(degrees, degrees)
def test_signs_and_hemisphere_letters_mean_the_same(south, north):
    south, north = sorted((south, north))
    signed = LatitudeRange.parse(f"{south}..{north}")
    lettered = LatitudeRange.parse(str(signed))
    assert (lettered.south, lettered.north) == pytest.approx((south, north))


def test_positions_take_their_letters_in_either_order():
    assert (
        Position.parse("64.1N,21.9W")
        == Position.parse("21.9W, 64.1N")
        == Position(64.1, -21.9)
    )
    assert Position.parse("-35S".replace("-", "") + ",20") == Position(-35, 20)


def test_months_and_seasons_go_round_the_end_of_the_year():
    assert Months.parse("nov..feb,7").numbers == (11, 12, 1, 2, 7)
    winter = Season.parse("NDJFM")
    assert winter.months == (11, 12, 1, 2, 3)
    assert winter.late_months == (11, 12)
    assert Season.parse("JJA").late_months == ()
    assert Season.parse("dec..feb") == Season.parse("DJF")


def test_years_hold_single_years_and_open_ranges():
    years = Years.parse("..1990,2010,2015..")
    assert [year in years for year in (1900, 1990, 1991, 2010, 2014, 2015, 3000)] == [
        1,
        1,
        0,
        1,
        0,
        1,
        1,
    ]


@pytest.mark.parametrize(
    ("kind", "text", "advice"),
    [
        (Period, "2020..1991", "write it 1991..2020"),
        (Period, "2003-13", "a month runs from 1 to 12"),
        (Period, "july", "write it like 2003, 2003-07"),
        (Period, "..", "write A..B"),
        (Months, "foo", "write jan, feb"),
        (Season, "DFJ", "such as DJF"),
        (Season, "J", "or jun..sep"),
        (Years, "2015..2010", "write it 2010..2015"),
        (LatitudeRange, "10N..35S", "write it 35S..10N"),
        (LatitudeRange, "95", "from 90S to 90N"),
        (LatitudeRange, "20E", "write it like 64.1N"),
        (LatitudeRange, "-35S", "both a sign and a letter"),
        (LongitudeRange, "20N", "write it like 21.9W"),
        (Position, "64.1,-21.9", "64.1N,21.9W or 21.9S,64.1E"),
        (Position, "64.1N", "write it like"),
        (Levels, "low", "850hPa"),
        (Every, "3", "time=12"),
        (Limits, "2..-2", "write -2..2"),
        (Size, "big", "1280x800"),
    ],
)
def test_what_cannot_be_read_is_refused_with_advice(kind, text, advice):
    with pytest.raises(ValueError, match=re.escape(advice)):
        kind.parse(text)


def test_an_instant_is_as_long_as_its_last_field():
    assert Instant.parse("2003-07-15T06").fields == (2003, 7, 15, 6)
    assert str(Instant.parse("0850-01")) == "0850-01"
