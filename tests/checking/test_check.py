"""What breaks the conventions is found and named with what to type; nothing that we write breaks
them."""

from __future__ import annotations

import json
import shlex

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import make_dataset, run_here, write_plain
from rhodolite.arrays import InMemory
from rhodolite.checking import Severity, check
from rhodolite.model.cf.standard_names import CANONICAL_UNITS
from rhodolite.model.units.aliases import repair_units
from rhodolite.model.units.udunits import is_unit
from rhodolite.model.variable import Variable


def drop_stale(name="tas", **attributes):
    """A sound dataset with some attributes of one variable changed; None takes one away."""
    made = make_dataset(np.ones((3, 2, 4)), attributes={"long_name": "temperature"})
    gone = [key for key, value in attributes.items() if value is None]
    kept = {key: value for key, value in attributes.items() if value is not None}
    variables = dict(made.variables) | {name: made.variables[name].edit(*gone, **kept)}
    about = {
        "Conventions": "CF-1.11",
        **dict.fromkeys(("title", "institution", "source", "history"), "x"),
    }
    about |= dict.fromkeys(("geospatial_lat_min", "time_coverage_start"), "x")
    return made.with_variables(variables.values(), attributes=about)


def with_extra(name, dimensions, values, parent=None, **attributes):
    """A sound dataset with one variable more, to which attributes of another refer."""
    made = drop_stale(*([parent[0]] if parent else []), **(parent[1] if parent else {}))
    return made.with_variables(
        [
            *made.variables.values(),
            Variable(name, dimensions, InMemory(values), attributes),
        ]
    )


LEVELS = ("lev",), np.array([1.0, 2.0])


@pytest.mark.parametrize(
    ("dataset", "severity", "words", "settings"),
    [
        (
            drop_stale(units="deg C"),
            "error",
            "not those of UDUNITS; degC is meant",
            [("--set", "tas:units=degC")],
        ),
        (drop_stale(units="furlongs per nothing"), "error", "cannot be read", []),
        (
            drop_stale(units=None),
            "warning",
            "has no units; its standard name is measured in K",
            [],
        ),
        (
            drop_stale(units="mm"),
            "error",
            "mm do not fit the standard name air_temperature",
            [],
        ),
        (
            drop_stale(standard_name="Air Temperature"),
            "error",
            "cannot be a standard name",
            [("--set", "tas:standard_name=air_temperature")],
        ),
        (
            drop_stale(standard_name=None),
            "warning",
            "has no standard name",
            [("--set", "tas:standard_name=air_temperature")],
        ),
        (
            drop_stale(flag_values=np.array([1, 2]), flag_meanings="dry"),
            "error",
            "has 2 flags and 1 meanings",
            [],
        ),
        (
            drop_stale(cell_methods="time mean"),
            "error",
            "cannot be read from 'time mean' on",
            [],
        ),
        (
            drop_stale(cell_methods="time: average"),
            "error",
            "'average' is none that CF knows",
            [],
        ),
        (
            drop_stale(coordinates="height"),
            "error",
            "names height as coordinates, which is not there",
            [("--remove", "tas:coordinates")],
        ),
        (
            drop_stale(grid_mapping="crs"),
            "error",
            "names crs as grid_mapping",
            [("--remove", "tas:grid_mapping")],
        ),
        (
            drop_stale("lat", units="degrees", standard_name="latitude"),
            "error",
            "not degrees_north",
            [("--set", "lat:units=degrees_north")],
        ),
        (
            drop_stale("lat", axis="north"),
            "error",
            "is none of X, Y, Z, T",
            [("--set", "lat:axis=Y")],
        ),
        (
            drop_stale("time", calendar="lunar"),
            "error",
            "there is no calendar 'lunar'",
            [],
        ),
        (
            drop_stale("time", calendar=None),
            "advice",
            "names no calendar",
            [("--set", "time:calendar=standard")],
        ),
        (
            drop_stale("time", units="months since 2000-01-01"),
            "warning",
            "counts months",
            [],
        ),
        (
            with_extra("lev", *LEVELS, units="m", standard_name="depth"),
            "error",
            "whether its numbers grow upward",
            [("--set", "lev:positive=down")],
        ),
        (
            with_extra("lev", *LEVELS, units="hPa", positive="up"),
            "error",
            "positive is up, but",
            [("--set", "lev:positive=down")],
        ),
        (
            with_extra(
                "lat_bnds",
                ("lat", "bnds"),
                np.array([[0.5, 1], [1, 2]]),
                ("lat", {"bounds": "lat_bnds"}),
            ),
            "error",
            "1 of the 2 cells do not hold their coordinate: 0 is not within 0.5 to 1",
            [("--remove", "lat:bounds"), ("--remove", "lat_bnds")],
        ),
        (
            with_extra(
                "b", ("lon", "bnds"), np.zeros((4, 2)), ("lat", {"bounds": "b"})
            ),
            "error",
            "cannot be the bounds of lat",
            [("--remove", "lat:bounds")],
        ),
        (
            with_extra("x 1", (), np.float32(1), units="K", long_name="a"),
            "warning",
            "more than letters, digits and underscores",
            [("--rename", "x 1=x_1")],
        ),
        (
            with_extra("x", ("x",), np.array([1.0, 3.0, 2.0]), units="1"),
            "error",
            r"first at number 3 (2 after 3)",
            [],
        ),
        (
            with_extra("x", ("x",), np.array([1.0, np.nan]), units="1"),
            "error",
            "1 of its 2 values are missing",
            [],
        ),
    ],
)
def test_what_is_wrong_is_found_once_and_can_be_mended(
    dataset, severity, words, settings
):
    found = check(dataset)
    assert [str(f.severity) for f in found] == [severity], found
    assert words in found[0].what
    assert list(found[0].settings) == settings
    if settings and severity == "error":  # what is to be typed mends it
        options: dict[str, list[str]] = {}
        for option, value in settings:
            options.setdefault(option[2:], []).append(value)
        assert not [
            f
            for f in check(rhodolite.Annotate(**options)(dataset))
            if f.severity == "error"
        ]


def test_sound_data_have_no_faults_and_every_fault_its_place_in_the_order():
    assert check(drop_stale()) == []
    several = check(
        drop_stale(units="deg C", standard_name="Air Temperature", calendar=None)
    )
    assert [f.severity for f in several] == sorted(
        (f.severity for f in several), key=list(Severity).index
    )
    assert all(is_unit(units) for units in CANONICAL_UNITS.values())
    assert [repair_units(u) for u in ("deg C", "degC", "mb", "W/m2", "unitless")] == [
        "degC",
        None,
        "hPa",
        None,
        "1",
    ]
    assert repair_units("C", "air temperature") == "degC"
    # Which the library takes for degrees of angle times temperatures, coulombs and farads.
    assert [
        repair_units(u) for u in ("degrees Celsius", "Deg. F", "degree kelvin")
    ] == [
        "degC",
        "degF",
        "K",
    ]
    assert repair_units("deg C (10 year)-1") == "degC (10 year)-1"
    assert repair_units("degrees north") is None
    for units, means in {
        "m of water equivalent": "m",
        "mm w.e. d-1": "mm d-1",
        "kg C m-2 s-1": "kg m-2 s-1",  # and not coulombs
        "gC m-2 d-1": "g m-2 d-1",
        "mol H2O m-2": "mol m-2",
        "W·m⁻²": "W m-2",
        "mm day^{-1}": "mm day^-1",
        "KG/M2/S": "kg/m2/s",
        "degC/decade": "K (10 year)-1",
        "oktas": "0.125",
        "‰": "1e-3",
        "deg": "degree",
        "W/m²": None,
        "C m-2": None,
        "kg N-1": None,
    }.items():
        assert (units, repair_units(units)) == (units, means)
        assert means is None or is_unit(means)
    assert repair_units("F", "air temperature") == "degF"
    assert repair_units("ms-1", "eastward wind") == "m s-1"
    assert [repair_units(u) for u in ("mph", "HPA", "hPa", "/s", "kmh-1")] == [
        "mile hour-1",
        "hPa",
        None,
        "s-1",
        "km h-1",
    ]
    assert repair_units("C", "charge") is None
    assert repair_units("F", "capacity") is None
    assert repair_units("ms-1", "rate") is None


@pytest.mark.slow
def test_a_file_is_read_as_a_stranger_would_and_mended_by_what_is_typed(tmp_path):
    with netCDF4.Dataset(tmp_path / "bad.nc", "w") as file:
        for name, n in (("time", 4), ("y", 3), ("x", 5)):
            file.createDimension(name, n)
            file.createVariable(name, "f8", (name,))[:] = np.arange(n)
        file["time"].units = "days since 2000-01-01"
        file["y"].setncatts({"units": "degrees", "standard_name": "latitude"})
        file["x"].setncatts({"units": "degrees_east", "bounds": "x_bnds"})
        made = file.createVariable("t 2m", "f4", ("time", "y", "x"), fill_value=-99.0)
        made.setncatts(
            {
                "units": "deg C",
                "long_name": "air temperature",
                "valid_min": np.float32(-100),
            }
        )
        made[:] = 1
    answer = run_here("check", "bad.nc", folder=tmp_path)
    assert answer.code == 3
    assert answer.out.startswith(
        "bad.nc: does not follow CF 1.11 in 4 places\n\nErrors: break the conventions (4)\n"
    )
    assert "the _FillValue -99.0 lies within the valid range" in answer.out
    assert answer.err == ""
    command = shlex.split(answer.out.splitlines()[-1])
    assert command[:3] == ["rhodolite", "annotate", "bad.nc"]
    assert run_here(*command[1:], folder=tmp_path).code == 0
    repaired = run_here("check", "repaired.nc", "--json", folder=tmp_path)
    assert repaired.code == 0, repaired.out
    found = json.loads(repaired.out)["findings"]
    assert {(f["severity"], f["where"]) for f in found} == {
        ("warning", "t_2m"),
        ("advice", "dataset"),
    }
    assert run_here("check", folder=tmp_path).code == 2


CHAINS = [
    ("subset rotated_monthly.nc --lat 60N..64N --lon 5E..15E", "a.nc"),
    ("subset rotated_monthly.nc --at 61N,9E", "a.zarr"),
    ("climatology garnet_monthly_1981-2020.nc --base 1991..2020", "a.nc"),
    ("climatology nordic_daily_*.nc --cycle season", "a.zarr"),
    ("anomaly garnet_monthly_1981-2020.nc --kind percent", "a.nc"),
    ("anomaly pyrope_historical.nc --kind standardised --cycle season", "a.nc"),
    ("anomaly spessartine_historical.nc then subset --at 60N,10E", "a.nc"),
    ("convert rain_hourly.nc --units pr=mm/day", "a.nc"),
    (
        "convert garnet_monthly_1981-2020.nc --units tas=degC --longitude -180..180 --latitude "
        "ascending --pack int16",
        "a.nc",
    ),
    ("aggregate nordic_daily_2010.nc --to month --statistic p90 --coverage", "a.nc"),
    (
        "aggregate rain_hourly.nc --to day --statistic sum then accumulate --reset month",
        "a.nc",
    ),
    ("climatology rain_hourly.nc --cycle hour --statistic std", "a.nc"),
    ("index almandine_historical.nc --classes", "a.zarr"),
    (
        "anomaly almandine_future.nc --climatology almandine_historical.nc --base 1981..2010",
        "a.nc",
    ),
    (
        "subset almandine_historical.nc --lat 50N..60N then trend --method theil-sen --test "
        "seasonal-mann-kendall",
        "a.nc",
    ),
    ("trend almandine_historical.nc --order 2 --per century", "a.nc"),
    ("detrend spessartine_historical.nc --cycle month", "a.nc"),
    (
        "correlate pyrope_historical.nc --with pyrope_historical.nc:tas --lag -1..1",
        "a.nc",
    ),
    ("annotate pressure_monthly.nc --rename ta=temperature --remove :title", "a.nc"),
    ("join grossular_historical.nc grossular_future.nc", "a.nc"),
    ("subset rotated_monthly.nc --region catchment.geojson", "a.zarr"),
    (
        "subset grossular_historical.nc --region sea --cells touched then anomaly then trend",
        "a.nc",
    ),
    (
        "regrid rotated_monthly.nc --to lat=1,lon=1.5 then relevel --to 100m..1000m/300m",
        "a.nc",
    ),
    ("regrid pressure_monthly.nc --like rotated_monthly.nc --method nearest", "a.nc"),
    (
        "relevel pressure_monthly.nc --to 600hPa --extrapolate then calc --formula ua*va --name uv",
        "a.nc",
    ),
    ("extract rain_hourly.nc --points reservoirs.csv --method bilinear", "a.nc"),
    ("summarise pressure_monthly.nc --over lon --statistic mean,p90", "a.nc"),
    ("summarise rotated_monthly.nc --latitude-bands 1.5 --statistic std", "a.zarr"),
    ("join reservoirs.csv", "a.nc"),
    ("build snow --description snow.toml", "a.zarr"),
]


@pytest.mark.slow
@pytest.mark.parametrize(("words", "out"), CHAINS, ids=[words for words, _ in CHAINS])
def test_no_output_of_any_operation_breaks_the_conventions(demo, tmp_path, words, out):
    answer = run_here(*words.split(), "-o", tmp_path / out, folder=demo)
    assert answer.code == 0, answer.err
    checked = run_here("check", tmp_path / out)
    assert checked.code == 0, checked.out
    assert "Errors: break the conventions" not in checked.out
    about = rhodolite.read(tmp_path / out).attributes
    assert about["Conventions"] == "CF-1.11, ACDD-1.3"
    assert words.split()[0] in about["history"]
    assert {"date_created", "geospatial_lat_min"} <= about.keys()


WITHOUT_PLACE = [
    "summarise garnet_monthly_1981-2020.nc --region Norway,Sweden --statistic mean,count",
    "summarise nordic_daily_2010.nc --over time --statistic sum then summarise --statistic median",
    "regrid almandine_future.nc spessartine_future.nc --members --to 15 then summarise --over area",
    "regrid almandine_future.nc spessartine_future.nc --members --to 15 then summarise --over "
    "ensemble",
]


@pytest.mark.parametrize("words", WITHOUT_PLACE)
def test_what_is_left_of_an_area_follows_the_conventions(demo, tmp_path, words):
    answer = run_here(*words.split(), "-o", tmp_path / "a.nc", folder=demo)
    assert answer.code == 0, answer.err
    checked = run_here("check", tmp_path / "a.nc", "--json")
    assert checked.code == 0, checked.out
    assert not [
        f
        for f in json.loads(checked.out)["findings"]
        if f["severity"] in ("error", "warning")
    ]


def test_the_demo_itself_is_sound(demo):
    for path in sorted(demo.glob("*.nc")):
        assert check(rhodolite.read(path)) == [], path.name


@pytest.mark.parametrize(
    ("units", "strange", "said"),
    [
        (
            "K",
            -999.0,
            "values from -999 to 280 K, and air temperature lies between 100 and 400 K",
        ),
        (
            "degC",
            280.0,
            "values from 280 to 280 degC, and air temperature lies between -173",
        ),
        ("K", 281.0, ""),
    ],
)
def test_values_that_a_quantity_cannot_have_are_named(tmp_path, units, strange, said):
    values = np.full((2, 3, 4), 280.0)
    values[1, 1, 1] = strange
    about = {"units": units, "standard_name": "air_temperature"}
    write_plain(tmp_path / "a.nc", values, attributes=about)
    for words in (["check", "--values"], ["inspect", "--statistics"]):
        answer = run_here(words[0], "a.nc", words[1], folder=tmp_path)
        assert answer.code == 0
        assert (said in answer.out) if said else ("lies between" not in answer.out)
