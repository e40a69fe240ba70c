"""Names and attributes: what is asked for changes, what refers to it follows, and nothing else
does."""

from __future__ import annotations

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import run_here
from rhodolite import Annotate, Climatology, DataError, Subset, UsageError
from rhodolite.arrays import InMemory
from rhodolite.model.variable import Variable


@pytest.fixture(scope="module")
def nordic(demo):
    return rhodolite.read(demo / "nordic_daily_2014.nc")


def test_attributes_are_set_and_removed_and_the_data_stay_as_they_are(nordic):
    made = Annotate(
        set=["pr:units=mm day-1", "pr:long_name=rain = snow, too", ":title=North"],
        remove=["pr:cell_methods", ":signals"],
    )(nordic)
    assert made["pr"].attributes == {
        "standard_name": "precipitation_flux",
        "long_name": "rain = snow, too",
        "units": "mm day-1",
    }
    assert made.attributes["title"] == "North"
    assert "signals" not in made.attributes
    assert made["pr"].data is nordic["pr"].data
    assert made.variables["tas"] is nordic.variables["tas"]


def test_what_refers_to_a_name_follows_it(nordic, tmp_path):
    renames = [
        "time=when",
        "time_bnds=when_limits",
        "tas=t2m",
        "lat=y",
        "pr:long_name=title",
    ]
    made = Annotate(rename=renames)(nordic)
    assert made["t2m"].dimensions == ("when", "y", "lon")
    assert made["t2m"].attributes["cell_methods"] == "when: mean"
    assert made.variables["when"].attributes["bounds"] == "when_limits"
    assert made["pr"].attributes["title"] == "precipitation"
    assert list(made["pr"].attributes) == [
        "standard_name",
        "title",
        "units",
        "cell_methods",
    ]
    assert made.unlimited == {"when"}
    rhodolite.write(Subset(time="2014-02")(made), tmp_path / "a.nc")
    assert (
        rhodolite.read(tmp_path / "a.nc").time.span
        == Subset(time="2014-02")(nordic).time.span
    )
    normal = Climatology(base="2009..2018", min_coverage=0)
    with pytest.raises(DataError, match="has data in 1 year"):
        normal(made)


def test_a_name_within_another_name_is_left_alone(nordic):
    made = Annotate(rename="lat=la")(nordic)
    assert made.variables["la"].attributes["bounds"] == "lat_bnds"
    assert made.variables["lat_bnds"].dimensions == ("la", "bnds")


def test_a_variable_that_is_taken_away_leaves_no_reference(nordic):
    made = Annotate(remove=["time_bnds", "pr"])(nordic)
    assert {"time_bnds", "pr"} & set(made.variables) == set()
    assert "bounds" not in made.variables["time"].attributes


def test_numbers_stay_numbers_of_their_type(nordic):
    flags = nordic["pr"].edit(flag_values=np.array([0, 1], "i1"), height=np.float32(2))
    made = Annotate(set=["pr:flag_values=1, 2, 3", "pr:height=10", "pr:note=5"])(
        nordic.with_variables(
            [*(v for v in nordic.variables.values() if v.name != "pr"), flags]
        )
    )["pr"].attributes
    assert made["flag_values"].tolist() == [1, 2, 3]
    assert made["flag_values"].dtype == np.int8
    assert (made["height"], made["height"].dtype, made["note"]) == (10, np.float32, "5")


def test_options_are_given_several_times_and_stand_in_the_history(demo, tmp_path):
    given = [
        "--set",
        "pr:units=mm day-1",
        "--set",
        ":title=A, b",
        "--rename",
        "tas=t2m",
    ]
    answer = run_here(
        "annotate", demo / "nordic_daily_2014.nc", *given, "-o", tmp_path / "a.nc"
    )
    assert answer.code == 0, answer.err
    with netCDF4.Dataset(tmp_path / "a.nc") as file:
        assert (file.title, file["pr"].units) == ("A, b", "mm day-1")
        assert (
            "--set 'pr:units=mm day-1' --set ':title=A, b' --rename tas=t2m"
            in file.history
        )


@pytest.mark.parametrize(
    ("settings", "error", "message"),
    [
        ({}, UsageError, "annotate: what"),
        (
            {"set": "pr"},
            UsageError,
            "'pr' sets nothing; write it like 'pr:units=mm day-1'",
        ),
        ({"set": "pr:=1"}, UsageError, "names no attribute"),
        ({"set": "pr:scale_factor=2"}, UsageError, "says how numbers are stored"),
        ({"rename": "tas"}, UsageError, "renames nothing"),
        ({"rename": "tas=a/b"}, UsageError, "'a/b' cannot be a name"),
        ({"set": "pr:units=mn day-1"}, DataError, "UDUNITS does not know 'mn day-1'"),
        ({"set": "rain:units=mm"}, DataError, "no variable 'rain'"),
        ({"rename": "tas=pr"}, DataError, "the name pr is taken already"),
        (
            {"rename": "pr:unit=units"},
            DataError,
            r"no such attribute\. Did you mean units",
        ),
        (
            {"rename": "pr:units=long_name"},
            DataError,
            "there is an attribute long_name already",
        ),
        ({"remove": "pr:unit"}, DataError, r"no such attribute\. Did you mean units"),
        ({"remove": "lat"}, DataError, "other variables run along it"),
    ],
)
def test_what_cannot_be_changed_is_refused(nordic, settings, error, message):
    with pytest.raises(error, match=message):
        Annotate(**settings)(nordic)


def test_text_for_a_number_is_refused(nordic):
    height = Variable("height", (), InMemory(2.0), {"rank": 3})
    made = nordic.with_variables([*nordic.variables.values(), height])
    with pytest.raises(
        DataError, match="'high' is not a number, which the attribute has been so far"
    ):
        Annotate(set="height:rank=high")(made)
