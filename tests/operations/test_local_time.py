"""Days of a place: against sums of hours counted by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import (
    Aggregate,
    Anomaly,
    Climatology,
    Convert,
    DataError,
    Subset,
    UsageError,
)
from rhodolite.operations.parameters.utc_offset import UtcOffset

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")


def hours(count, *, units="hours since 2001-01-01", first=0.5, step=1.0):
    values = np.arange(count, dtype=float)[:, None, None]
    times = first + step * np.arange(count)
    return make_dataset(
        values, times=times / (24 if units.startswith("day") else 1), units=units
    )


@given(st.integers(-14 * 60, 14 * 60), st.sampled_from(["hours", "days"]))
def test_days_are_those_between_local_midnights(minutes, unit):
    """Each hour counts for the local day that its middle lies in, by integers alone."""
    offset = str(UtcOffset(minutes))
    data = hours(72, units=f"{unit} since 2001-01-01")
    days = Aggregate(to="day", utc_offset=offset, min_coverage=0)(data)
    local = (np.arange(72) * 60 + 30 + minutes) // (24 * 60)
    present = np.unique(local)
    expected = [np.arange(72)[local == day].mean() for day in present]
    np.testing.assert_allclose(days["tas"].values().ravel(), expected, rtol=1e-12)
    ordinals = [date.dayofyr for date in days.time.reference_dates if date.year == 2001]
    assert ordinals == [day + 1 for day in present if day >= 0]
    assert days["time"].attributes["utc_offset"] == offset


@given(st.integers(-14 * 60, 14 * 60), st.sampled_from([1.0, 3.0, 6.0]))
def test_hours_are_moved_with_what_they_cover_wherever_their_stamps_stand(
    minutes, step
):
    """What times cover shows by universal midnight, and has to be known before they are moved."""
    days = [
        Aggregate(to="day", utc_offset=str(UtcOffset(minutes)), min_coverage=0)(
            hours(72, first=part * step, step=step)
        )
        for part in (0.0, 0.5, 1.0)
    ]
    for other in days[1:]:
        np.testing.assert_array_equal(days[0]["tas"].values(), other["tas"].values())
        np.testing.assert_array_equal(days[0].time.middles, other.time.middles)


@pytest.mark.parametrize("way", ["aggregate", "convert", "subset"])
def test_every_way_to_local_days_is_the_same_and_is_taken_once(tmp_path, way):
    data = hours(96, step=3.0, first=1.5)
    direct = Aggregate(to="day", utc_offset="+09:00")(data)
    first = {
        "aggregate": lambda: data,
        "convert": lambda: Convert(utc_offset="+9")(data),
        "subset": lambda: Subset(time="2000..", utc_offset="+0900")(data),
    }[way]()
    again = Aggregate(to="day", utc_offset="+09:00" if way == "aggregate" else None)(
        first
    )
    np.testing.assert_array_equal(direct["tas"].values(), again["tas"].values())
    rhodolite.write(again, tmp_path / "days.nc")
    page = run_here("inspect", "days.nc", folder=tmp_path).out
    assert "local time (UTC+09:00)" in page
    with pytest.raises(DataError, match=r"local time already \(UTC\+09:00\)"):
        Aggregate(to="month", utc_offset="+01:00")(again)


def test_normals_of_the_day_are_of_one_clock():
    data = hours(24 * 365 * 3)
    few = {"cycle": "hour", "min_years": 1}
    local = Climatology(**few, utc_offset="-05:00")(data)
    at_home = Anomaly(**few, utc_offset="-05:00")(data)
    written = Anomaly(**few, utc_offset="-05:00", climatology=local)(data)
    raw = Anomaly(**few, utc_offset="-05:00", climatology=data)(data)
    for other in (written, raw):
        np.testing.assert_allclose(
            other["tas"].values(), at_home["tas"].values(), atol=1e-9
        )
    with pytest.raises(DataError, match="normals of days of UTC-05:00"):
        Anomaly(**few, climatology=local)(data)


def test_what_has_no_hours_or_no_such_offset_is_refused():
    with pytest.raises(DataError, match="one value every day"):
        Aggregate(to="month", utc_offset="+01:00")(make_dataset(np.zeros((9, 1, 1))))
    for text in ("9h", "+15:00", "+01:75", "east"):
        with pytest.raises(UsageError, match="universal time"):
            Aggregate(to="day", utc_offset=text)
