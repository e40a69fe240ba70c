"""Operations declared once: text and objects make the same, and plain dictionaries bring them
back."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import EXAMPLES, run_command
from rhodolite import (
    Aggregate,
    Anomaly,
    Index,
    Indicator,
    Map,
    Series,
    Subset,
    Trend,
    UsageError,
)
from rhodolite.model.time.period_text import Period
from rhodolite.operations import SUMMARIES, all_operations
from rhodolite.operations.declaration import from_plain, parameters, to_plain

PACKAGE = Path(rhodolite.__file__).parent
NAMED_IN = " ".join(
    " ".join(path.read_text().split())
    for room in ("kernels", "operations")
    for path in (PACKAGE / room).rglob("*.py")
    if '"""See `Step.sources`' not in path.read_text()
)
"""What kernels say of where their formulas come from."""
VALUES = {
    "variable": ["tas", "tas,pr"],
    "lat": ["35S..10N", "60N.."],
    "lon": ["170E..160W"],
    "time": ["1991..2020", "2003-07"],
    "months": ["nov,dec,jan"],
    "season": ["DJF"],
    "years": ["2010,2015..2018"],
    "level": ["850hPa,500hPa"],
    "every": ["time=12"],
    "choose": ["pattern=1", "return_period=10..50"],
    "base": ["1991..2020", "..2000"],
    "kind": ["difference", "percent", "standardised"],
    "indicator.kind": ["FD", "SU 30degC,R25mm,heat-waves"],
    "indicator.to": ["month", "season"],
    "missing-days": [5],
    "lowest": ["tasmin"],
    "highest": ["tasmax"],
    "mean": ["tas"],
    "rain": ["pr"],
    "min-coverage": [0.5, 1.0],
    "at": ["64.1N,21.9W"],
    "units": ["tas=degC,pr=mm day-1"],
    "longitude": ["0..360", "-180..180"],
    "latitude": ["ascending"],
    "pack": ["keep", "int16"],
    "set": [["a:b=c, d", ":t=1"]],
    "remove": [["pr:comment", "crs"]],
    "rename": [["a=b"]],
    "per": ["year", "century"],
    "alpha": [0.01, 0.1],
    "to": ["month", "3hours", "10days"],
    "year-start": ["oct"],
    "statistic": ["p90", "std,max"],
    "width": ["5days", "12months", "31"],
    "align": ["start", "end"],
    "longer-than": ["10years"],
    "shorter-than": ["8years", "24months"],
    "coverage": [True],
    "smooth": ["31", "3 harmonics"],
    "climatology": ["past.nc"],
    "reset": ["month", "never"],
    "start": ["oct"],
    "gaps": ["skip"],
    "leap-day": ["drop"],
    "extremes": ["5", "10%"],
    "distribution": ["gamma"],
    "classes": [True],
    "index.kind": ["standardised"],
    "index.months": [3, 12],
    "cycle": ["season", "month+hour"],
    "pool": [3, 5],
    "periods": ["50", "10,100"],
    "tail": ["low"],
    "extremes.method": ["likelihood"],
    "trend": [True],
    "above": ["98%", "20mm/day"],
    "apart": [5],
    "confidence": [0.9],
    "samples": [0, 200],
    "seed": [3],
    "method": ["theil-sen"],
    "test": ["mann-kendall"],
    "order": [2],
    "serial-correlation": ["ar1"],
    "amounts": ["since-start", "of-step"],
    "false-discovery": [True],
    "min-values": [10],
    "keep-mean": [True],
    "region": [["Norway"], ["a.geojson#b", "Sweden"]],
    "cells": ["centre"],
    "points": ["a.csv"],
    "search": [2],
    "layout": ["wide"],
    "extract.method": ["bilinear"],
    "formula": ["a + 2[K] * b"],
    "name": ["c"],
    "keep": [True],
    "calc.units": ["K"],
    "over": ["lat", "ensemble"],
    "latitude-bands": [2.5],
    "summarise.statistic": ["p90", "mean,max"],
    "regrid.to": ["2.5", "lat=1,lon=1.25"],
    "like": ["a.nc"],
    "regrid.method": ["bilinear", "nearest"],
    "save-weights": ["w.nc"],
    "weights": ["w.nc"],
    "relevel.to": ["850hPa,500hPa", "100m..2000m/100m"],
    "relevel.method": ["linear"],
    "extrapolate": [True],
    "relevel.by": ["zg"],
    "find": ["ta < 0degC", "thetao differs 0.2K from 10m"],
    "integral": [True],
    "utc-offset": ["+09:00", "-03:30"],
    "by": ["basin"],
    "stamp": ["end", "middle"],
    "min-years": [1],
    "compare.kind": ["ratio", "percent", "ensemble"],
    "with": ["a.nc", "b.csv:soi"],
    "lag": ["3", "-6..6"],
    "when": ["a.csv:oni > 0.5", "lowest 5 of b.csv"],
    "composite.when": ["mean(tas, area) > 290[K]", "< -1"],
    "against": ["a.csv:oni < -0.5"],
    "composite.test": ["permutation"],
    "permutations": [199],
    "count": [3],
    "spectrum.method": ["welch"],
    "segment": [120],
    "tapers": [4],
    "harmonics": [2],
    "adjust.to": ["observed.nc"],
    "trained-on": ["past.nc"],
    "adjust.method": ["quantiles", "mean"],
    "adjust.by": ["ratios"],
    "fit": ["gamma"],
    "matrix": ["correlation"],
    "rotate": [True],
    "correlate.method": ["spearman"],
    "detrend": [True],
}


@pytest.mark.parametrize("verb", sorted(all_operations()))
@settings(max_examples=EXAMPLES or 3)
@given(data=st.data())
def test_any_operation_comes_back_from_its_plain_dictionary(verb, data):
    cls = all_operations()[verb]
    settings = {"verb": verb}
    for declared in parameters(cls):
        if declared.name != "at" and data.draw(st.booleans()):
            offered = VALUES.get(f"{verb}.{declared.name}") or VALUES[declared.name]
            settings[declared.name] = data.draw(st.sampled_from(offered))
    if len(settings) == 1:  # some verbs need to be told what to do
        settings |= {"annotate": {"rename": ["a=b"]}}.get(verb, {})
    try:
        step = from_plain(settings, all_operations())
    except UsageError as error:
        assert any(
            text in str(error)
            for text in (
                "to what?",
                "how long?",
                "with what?",
                "which? Add",
                "of which times?",
                "--when says",
                "--find:",
                "do not go with",
                "--trend is fitted",
                "--above:",
                "go with",
                "goes with",
                "belong",
                "one of --to",
                "give one",
                "what? Add",
                "needs a name",
                "which levels",
                "have none",
            )
        )  # they exclude each other
        return
    for source in step.sources():
        author, year = re.match(r"([\w. -]*?)[ ,].*?(\d{4})", source).groups()
        assert re.search(rf"{author}\b[^;]{{0,90}}{year}", NAMED_IN), source
    plain = to_plain(step)
    assert from_plain(plain, all_operations()) == step
    assert json.loads(json.dumps(plain)) == plain
    defaults = {
        p.name: p.format(p.default) for p in parameters(cls) if p.default is not None
    }
    assert plain == {
        name: value for name, value in settings.items() if defaults.get(name) != value
    }


@pytest.mark.parametrize(
    ("step", "cited", "not_cited"),
    [
        (Index(kind="percentile"), "Hazen 1914", "van Rooy"),
        (Index(kind="rank"), "", "van Rooy"),
        (Index(kind="standardised", distribution="log-logistic"), "Begueria", "Thom"),
        (Trend(method="theil-sen"), "Sen 1968", "Draper"),
        (Aggregate(to="year", statistic="mean,p90"), "definition 7", ""),
        (Indicator(kind="heat-waves", highest="tasmax"), "Perkins", "Zhang"),
    ],
)
def test_a_step_cites_what_it_computes_and_nothing_else(step, cited, not_cited):
    text = "; ".join(step.sources())
    assert cited in text
    assert not not_cited or not_cited not in text


def test_text_objects_and_numbers_make_the_same_operation():
    assert Anomaly(base="1991..2020") == Anomaly(base=Period.parse("1991..2020"))
    assert Subset(years=2010, variable=["tas"]) == Subset(
        years="2010", variable=("tas",)
    )
    assert Map(centre=1) == Map(centre="1.0")
    assert Series(with_="b.nc").with_.location == "b.nc"


@pytest.mark.parametrize(
    ("plain", "message"),
    [
        ({"verb": "anomoly"}, "no verb 'anomoly'. Did you mean anomaly"),
        (
            {"verb": "anomaly", "bass": "1"},
            "anomaly has no parameter 'bass'. Did you mean base",
        ),
        (
            {"verb": "anomaly", "kind": "percents"},
            "--kind: 'percents' is not offered. Did you mean percent",
        ),
        (
            {"verb": "anomaly", "min-coverage": "most"},
            "--min-coverage: 'most' is not a number",
        ),
        (
            {"verb": "anomaly", "min-coverage": 80},
            "'80' is not a fraction between 0 and 1",
        ),
        (
            {"verb": "subset", "lat": "10N..5S"},
            "--lat: '10N..5S' runs from north to south",
        ),
        ({"verb": "subset", "time": True}, "--time: True cannot be used|--time"),
    ],
)
def test_what_is_wrong_in_a_plain_dictionary_is_named(plain, message):
    with pytest.raises(UsageError, match=message):
        from_plain(plain, all_operations())


def test_the_catalogue_agrees_with_the_classes():
    order = (
        "subset extract annotate convert calc aggregate accumulate window climatology anomaly "
        "index indicator extremes trend detrend correlate composite patterns spectrum adjust "
        "summarise regrid relevel compare"
    )
    assert list(SUMMARIES) == list(all_operations()) == order.split()
    for verb, cls in all_operations().items():
        assert " ".join(cls.__doc__.split()).startswith(SUMMARIES[verb])


@pytest.mark.slow
def test_help_shows_every_declared_parameter():
    for words in (
        ["subset"],
        ["climatology"],
        ["anomaly"],
        ["draw", "map"],
        ["draw", "series"],
    ):
        answer = run_command(*words, "--help")
        assert answer.code == 0
        cls = all_operations().get(words[0]) or {"map": Map, "series": Series}[words[1]]
        for declared in parameters(cls):
            assert f"--{declared.name}" in answer.out
            assert declared.help.split()[0] in answer.out
    top = run_command("--help")
    assert all(
        f"\n  {verb} " in top.out
        for verb in (
            "inspect",
            "join",
            "subset",
            "climatology",
            "anomaly",
            "draw",
            "demo",
        )
    )
