"""Tables as people have them, and tables that come back as what they were."""

from __future__ import annotations

import gzip
import re
import tempfile
import warnings
from pathlib import Path

import cftime
import netCDF4
import numpy as np
import pandas
import pytest
from hypothesis import given
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here, write_plain
from rhodolite import Aggregate, Climatology, DataError, Index, OutputError, Subset

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
MONTHS = [
    "JAN",
    "FEB",
    "MAR",
    "APR",
    "MAY",
    "JUN",
    "JUL",
    "AUG",
    "SEP",
    "OCT",
    "NOV",
    "DEC",
]


@pytest.mark.parametrize(
    ("text", "dates"),
    [
        ("year,rain\n1999,1\n2000,2\n", ["1999-07-02", "2000-07-02"]),
        (
            "YEAR,"
            + ",".join(MONTHS)
            + "\n2000,"
            + ",".join(map(str, range(1, 13)))
            + "\n",
            ["2000-01-16", "2000-02-15"],
        ),
        ("Year,Month,rain\n2000,1,1\n2000,2,2\n", ["2000-01-16", "2000-02-15"]),
        ("year,month,rain\n2000,Jan,1\n2000,Feb,2\n", ["2000-01-16", "2000-02-15"]),
        (
            "year,month,day,rain\n2000,1,31,1\n2000,2,1,2\n",
            ["2000-01-31", "2000-02-01"],
        ),
        ("date,rain\n2012/01/01,1\n2012/01/02,2\n", ["2012-01-01", "2012-01-02"]),
        ("date,rain\n31.12.2011,1\n01.01.2012,2\n", ["2011-12-31", "2012-01-01"]),
        ("date,rain\n12/31/2011,1\n01/01/2012,2\n", ["2011-12-31", "2012-01-01"]),
        ("date,rain\n31/12/2011,1\n01/01/2012,2\n", ["2011-12-31", "2012-01-01"]),
        ("day,rain\n15 March,1\n16 March,2\n", ["2001-03-15", "2001-03-16"]),
        ("day,rain\n03-15,1\n03-16,2\n", ["2001-03-15", "2001-03-16"]),
        ("time,rain\n2050 DJF,1\n2050 MAM,2\n", ["2050-01-15", "2050-04-16"]),
        ("date,rain\n31-Dec-2000,1\n01-Jan-2001,2\n", ["2000-12-31", "2001-01-01"]),
        (
            'date,rain\n"December 31, 2000",1\n"Jan 1, 2001",2\n',
            ["2000-12-31", "2001-01-01"],
        ),
        ("date,rain\n1/2001,1\n2/2001,2\n", ["2001-01-16", "2001-02-15"]),
        ("date,rain\n2000-060,1\n2000-061,2\n", ["2000-02-29", "2000-03-01"]),
        ("year,doy,rain\n2001,365,1\n2002,1,2\n", ["2001-12-31", "2002-01-01"]),
        ("date,rain\n2001/032,1\n2001/033,2\n", ["2001-02-01", "2001-02-02"]),
    ],
)
def test_dates_of_every_kind(tmp_path, text, dates):
    (tmp_path / "rain.csv").write_text(text)
    data = rhodolite.read(tmp_path / "rain.csv")
    assert [
        date.strftime("%Y-%m-%d") for date in data.time.reference_dates[:2]
    ] == dates
    np.testing.assert_array_equal(data["rain"].values().reshape(-1)[:2], [1, 2])


@pytest.mark.parametrize(
    ("text", "hours"),
    [
        ("date,rain\n2001-01-01 12:00 AM,1\n2001-01-01 12:00 pm,2\n", [0, 12]),
        ("date,rain\n2001-01-01T00:30+01:00,1\n2001-01-01T00:30-05:30,2\n", [-0.5, 6]),
        ("date,time,rain\n2001-01-01,06:00,1\n2001-01-01,18:00,2\n", [6, 18]),
        ("time,date,rain\n6:00 AM,2001-01-01,1\n6:00 PM,2001-01-01,2\n", [6, 18]),
        ("year,month,day,hour,rain\n2001,1,1,0,1\n2001,1,1,21,2\n", [0, 21]),
        ("date\train\n01.01.2001 06:00Z\t1\n01.01.2001 07:00 UTC\t2\n", [6, 7]),
    ],
)
def test_times_of_the_day_of_every_kind(tmp_path, text, hours):
    (tmp_path / "rain.csv").write_text(text)
    data = rhodolite.read(tmp_path / "rain.csv")
    since = [date - cftime.datetime(2001, 1, 1) for date in data.time.reference_dates]
    assert [step.total_seconds() / 3600 for step in since] == hours
    np.testing.assert_array_equal(data["rain"].values(), [1, 2])


ROWS = "2001-01-01,1.5,3\n2001-01-02,{mark},4\n2001-01-03,2.5,\n"
PLAIN = "date,rain [mm],tas [K]\n"


def read_rain(path, text, **options):
    """Return rain and temperature, and what was warned of."""
    content = text.encode()
    path.write_bytes(gzip.compress(content) if path.suffix == ".gz" else content)
    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        data = rhodolite.read(path, **options)
    np.testing.assert_array_equal(data["tas"].values(), [3, 4, np.nan])
    assert (data["rain"].units, data["tas"].units) == ("mm", "K")
    return data["rain"].values(), " ".join(str(warning.message) for warning in said)


@pytest.mark.parametrize(
    ("name", "text", "options", "said"),
    [
        ("a.csv", PLAIN + ROWS, {}, ""),
        ("a.tsv.gz", (PLAIN + ROWS).replace(",", "\t"), {}, ""),
        (
            "a.csv",
            (PLAIN + ROWS).replace(",", ";").replace(".5", ",5"),
            {},
            "decimal commas",
        ),
        ("a.csv", "date,rain,tas\n,mm,K\n" + ROWS, {}, "line 2 was read as the units"),
        (
            "a.txt",
            "date,rain,tas\n(UTC),[mm],(K)\n" + ROWS,
            {},
            "line 2 was read as the units",
        ),
        ("a.dat", ROWS, {"columns": ["date", "rain [mm]", "tas [K]"]}, ""),
        ("a.csv", "# from a gauge\n\n" + PLAIN + ROWS, {}, ""),
    ],
)
@pytest.mark.parametrize(
    "mark", ["", "NA", "M", " -- ", "#N/A", "***", "none", "n/a", "."]
)
def test_tables_as_people_have_them(tmp_path, name, text, options, said, mark):
    """One table, however it is separated, compressed and headed, and what is missing in it."""
    rain, warned = read_rain(tmp_path / name, text.replace("{mark}", mark), **options)
    np.testing.assert_array_equal(rain, [1.5, np.nan, 2.5])
    assert said in warned
    taken = f"taken for missing values: '{mark.strip()}'" in warned
    assert taken == (mark not in ("", "NA"))


def test_columns_apart_by_spaces(tmp_path):
    (tmp_path / "a.txt").write_text("date  rain\n 2001-01-01   1.5\n2001-01-02 NA\n")
    rain = rhodolite.read(tmp_path / "a.txt")["rain"].values()
    np.testing.assert_array_equal(rain, [1.5, np.nan])


def test_text_among_numbers_is_missing_where_the_user_says_so(tmp_path):
    text = PLAIN + ROWS.replace("{mark}", "<0.1")
    path = tmp_path / "a.csv"
    with pytest.raises(
        DataError, match=r"line 3: '<0\.1' .* add --missing-text '<0\.1'"
    ):
        read_rain(path, text)
    rain, warned = read_rain(path, text, missing_text=["<0.1"])
    np.testing.assert_array_equal(rain, [1.5, np.nan, 2.5])
    assert not warned
    asked = (
        "aggregate",
        "a.csv",
        "--to",
        "month",
        "--min-coverage",
        "0",
        "--missing-text",
        "<0.1",
    )
    assert (
        run_here(*asked, "-o", "m.csv", "--record", "m.toml", folder=tmp_path).code == 0
    )
    written = (tmp_path / "m.csv").read_text()
    assert written.splitlines()[1].startswith("2001-01,2.0,")
    assert run_here("study", "m.toml", "--overwrite", folder=tmp_path).code == 0
    assert (tmp_path / "m.csv").read_text() == written


def test_many_tables_are_read_by_the_rules_of_each_command(tmp_path):
    """What a command was told of tables is not taken for known by the next."""
    for at in range(25):
        days = [
            f"{1900 + at}-01-0{day},{rain},3"
            for day, rain in enumerate(("<0.1", 2, 2, 2), 1)
        ]
        text = PLAIN + "\n".join(days)
        (tmp_path / f"r_{at:02d}.csv").write_text(text)
    for _ in range(2):
        words = ("inspect", "r_*.csv", "--statistics")
        answer = run_here(*words, "--missing-text", "<0.1", folder=tmp_path)
        assert (answer.code, "25.0%" in answer.out) == (0, True), answer.err
        answer = run_here(*words, folder=tmp_path)
        assert (answer.code, "'<0.1' in column 'rain'" in answer.err) == (3, True)


def test_words_stay_as_they_are_written(tmp_path):
    rows = ("2001,A,True,NA,001", "2002,,False,x,010", "2003,NA,TRUE,-,100")
    (tmp_path / "a.csv").write_text("year,kind,sure,note,code\n" + "\n".join(rows))
    table = rhodolite.read(tmp_path / "a.csv")
    assert list(table["kind"].values()) == ["A", "", "NA"]
    assert list(table["sure"].values()) == ["True", "False", "TRUE"]
    assert list(table["note"].values()) == ["NA", "x", "-"]
    np.testing.assert_array_equal(table["code"].values(), [1, 10, 100])


def test_numbers_of_nines_far_from_all_others_are_named(tmp_path):
    path = tmp_path / "a.csv"
    for mark, others, told in (
        ("-99.9", "1.5", True),
        ("9999", "25", True),
        ("99", "101", False),
        ("999", "-2000", False),
        ("-80", "1.5", False),
    ):
        path.write_text(f"year,rain\n2001,{others}\n2002,{mark}\n2003,2\n")
        with warnings.catch_warnings(record=True) as said:
            warnings.simplefilter("always")
            rain = rhodolite.read(path)["rain"].values()
        np.testing.assert_array_equal(rain, [float(others), float(mark), 2])
        asked = f"rain: {mark} is far from all other values; .* --missing-value {mark}"
        assert bool(re.search(asked, " ".join(str(w.message) for w in said))) == told


@given(
    st.lists(st.floats(allow_nan=False, allow_infinity=False), min_size=2, max_size=30)
)
def test_numbers_are_the_nearest_to_their_text(numbers):
    """As Python reads each of them, to the bit, however many digits it has."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.csv"
        rows = [f"{1900 + at},{number!r}\n" for at, number in enumerate(numbers)]
        path.write_text("year,rain\n" + "".join(rows))
        np.testing.assert_array_equal(rhodolite.read(path)["rain"].values(), numbers)


def test_rows_in_order_and_decimal_commas(tmp_path):
    """What is written in order is what pandas sorts, and decimal commas come back as numbers."""
    values = np.random.default_rng(3).integers(0, 5, (40, 1, 1)).astype(float) + 0.25
    values[3] = np.nan
    data = make_dataset(values, times=np.arange(40.0), name="pr")
    for asked, order in (
        ({}, slice(None)),
        ({"sort": "pr"}, np.argsort(values[:, 0, 0], kind="stable")),
        ({"sort": "pr:down"}, np.argsort(-values[:, 0, 0], kind="stable")),
        ({"first": 4}, slice(4)),
        (
            {"sort": "pr:down", "first": 7},
            np.argsort(-values[:, 0, 0], kind="stable")[:7],
        ),
    ):
        for decimal in ("point", "comma"):
            path = tmp_path / "t.csv"
            data.write(path, overwrite=True, decimal=decimal, **asked)
            rows = pandas.read_csv(
                path, sep="," if decimal == "point" else ";", dtype=str
            )
            read = rows.filter(like="pr").iloc[:, 0].str.replace(",", ".").astype(float)
            np.testing.assert_array_equal(read, values[:, 0, 0][order])
    for words, message in (
        (("--sort", "rain"), "no column 'rain'"),
        (("--first", "0"), "not a number of rows"),
        (("--decimal", "dot"), "'dot' is not offered"),
    ):
        data.write(tmp_path / "a.nc", overwrite=True)
        answer = run_here("convert", "a.nc", "-o", "b.csv", *words, folder=tmp_path)
        assert (answer.code, message in answer.err) == (2, True), answer.err
    assert (
        run_here("convert", "a.nc", "-o", "b.nc", "--first", "3", folder=tmp_path).code
        == 2
    )


def test_dates_that_can_be_read_in_two_ways_are_refused(tmp_path):
    (tmp_path / "a.csv").write_text("date,rain\n01/02/2012,1\n02/03/2012,2\n")
    with pytest.raises(
        DataError, match=r"01/02/2012 can be read in two ways; write them as 2001-12-31"
    ):
        rhodolite.read(tmp_path / "a.csv")


@pytest.mark.slow
@pytest.mark.parametrize("variables", [("tas", "pr"), ("tas",)])
def test_a_wide_table_comes_back_as_what_it_was(demo, tmp_path, variables):
    """Names, units and values of each variable, and the words of each site."""
    steps = [
        "subset",
        demo / "nordic_daily_2018.nc",
        "--variable",
        ",".join(variables),
        "--time",
        "2018-01",
        "then",
        "extract",
        "--points",
        demo / "reservoirs.csv",
    ]
    assert (
        run_here(*steps, "--layout", "wide", "-o", "wide.csv", folder=tmp_path).code
        == 0
    )
    assert run_here(*steps, "-o", "plain.nc", folder=tmp_path).code == 0
    table, plain = (
        rhodolite.read(tmp_path / name) for name in ("wide.csv", "plain.nc")
    )
    assert b"\r" not in (tmp_path / "wide.csv").read_bytes()
    for name in variables:
        assert table[name].units == plain[name].units
        order = [
            list(table["name"].values()).index(one) for one in plain["name"].values()
        ]
        np.testing.assert_allclose(
            table[name].values()[:, order].T, plain[name].values(), rtol=1e-6
        )


@pytest.mark.slow
def test_packed_numbers_are_written_with_their_decimals(tmp_path):
    path = write_plain(
        tmp_path / "a.nc",
        np.array([[[642, 1, 30005]]]),
        kind="i2",
        name="q",
        attributes={"scale_factor": np.float32(0.1), "add_offset": np.float32(0)},
    )
    assert run_here("subset", path, "-o", "a.csv", folder=tmp_path).code == 0
    assert [
        line.split(",")[-1]
        for line in (tmp_path / "a.csv").read_text().split("\n")[1:4]
    ] == [
        "64.2",
        "0.1",
        "3000.5",
    ]


def labels(data, path):
    rhodolite.write(data, path)
    return [line.split(",")[:2] for line in path.read_text().split("\n")[1:-1]]


def test_steps_are_called_what_people_call_them(tmp_path):
    days = make_dataset(
        np.random.default_rng(0).random((3653, 1, 1)), times=np.arange(3653.0)
    )
    cell = Subset(at="0N,0E")(days)
    for cycle, first, last in (
        ("month", "January", "December"),
        ("season", "DJF", "SON"),
        ("day", "1 January", "31 December"),
        ("year", "year", "year"),
    ):
        rows = labels(
            Climatology(cycle=cycle, base="2001..2008")(cell), tmp_path / f"{cycle}.csv"
        )
        assert (rows[0], rows[-1]) == ([first, "2001-2008"], [last, "2001-2008"])
    seasons = [
        row[0] for row in labels(Aggregate(to="season")(cell), tmp_path / "s.csv")
    ]
    assert seasons[:3] == ["2000 DJF", "2000 MAM", "2000 JJA"]
    years = [
        row[0]
        for row in labels(
            Aggregate(to="year", year_start="oct")(cell), tmp_path / "y.csv"
        )
    ]
    assert years[:2] == ["2000", "2001"]
    months = [
        row[0]
        for row in labels(
            Subset(months="jan")(Aggregate(to="month")(cell)), tmp_path / "m.csv"
        )
    ]
    assert months[:2] == ["2000-01", "2001-01"]
    assert [
        row[0] for row in labels(Aggregate(to="decade")(cell), tmp_path / "d.csv")
    ] == [
        "1991-2000",
        "2001-2010",
    ]


def test_classes_are_written_in_words_and_read_as_text(tmp_path):
    years = make_dataset(
        np.random.default_rng(0).random((40, 1, 1)),
        times=np.arange(40) * 365.25 + 180,
        name="pr",
        attributes={"units": "mm", "standard_name": "precipitation_amount"},
    )
    made = Index(classes=True, extremes="10%")(years)
    rhodolite.write(made, tmp_path / "i.csv")
    table = rhodolite.read(tmp_path / "i.csv")
    words = set(table["pr_class"].values().reshape(-1))
    assert "near normal" in words
    assert words <= {
        "near normal",
        *(
            f"{d} {w}"
            for d in ("slightly", "moderately", "very", "extremely")
            for w in ("dry", "wet")
        ),
    }


@pytest.mark.slow
def test_sites_without_a_place_keep_their_rows(demo, tmp_path):
    (tmp_path / "p.csv").write_text(
        "name,lat,lon\nA,60.5,8.5\n\nB,,\nC,10,10\nD,61,9\n"
    )
    answer = run_here(
        "extract",
        demo / "nordic_daily_2018.nc",
        "--points",
        "p.csv",
        "--layout",
        "wide",
        "-o",
        "w.csv",
        folder=tmp_path,
    )
    assert answer.code == 0, answer.err
    assert "B (line 4)" in answer.err
    assert "C (line 5)" in answer.err
    names = [
        line.split(",")[0]
        for line in (tmp_path / "w.csv").read_text().split("\n")[1:-1]
    ]
    assert names == [n for n in "ABCD" for _ in range(2)]


@pytest.mark.parametrize(
    "cycle", ["month", "season", "day", "hour", "month+hour", "year"]
)
def test_a_table_of_normals_is_read_as_normals(tmp_path, cycle):
    """Values, phases and base period, against those of the NetCDF file."""
    steps = 3 * 365 * 4 + 4
    made = make_dataset(
        np.random.default_rng(0).random((steps, 1, 1)), times=np.arange(steps) * 0.25
    )
    normals = Climatology(cycle=cycle, base="2000..2002")(made)
    for name in ("n.csv", "n.nc"):
        rhodolite.write(normals, tmp_path / name)
    table, plain = (rhodolite.read(tmp_path / name) for name in ("n.csv", "n.nc"))
    assert table.time.climatological
    order = np.argsort(plain.time.bounds[:, 0], kind="stable")
    ends = [axis.to_dates(axis.bounds) for axis in (table.time, plain.time)]
    assert [str(d) for d in ends[0].ravel()] == [str(d) for d in ends[1][order].ravel()]
    np.testing.assert_allclose(
        table["tas"].values().ravel(), plain["tas"].values().ravel()[order], rtol=1e-6
    )


def test_spans_of_years_are_read_back(tmp_path):
    days = make_dataset(
        np.random.default_rng(0).random((9000, 1, 1)), times=np.arange(9000.0)
    )
    rhodolite.write(Aggregate(to="decade", min_coverage=0)(days), tmp_path / "d.csv")
    bounds = rhodolite.read(tmp_path / "d.csv").time
    assert [str(d)[:4] for d in bounds.to_dates(bounds.bounds)[:, 0]] == [
        "1991",
        "2001",
        "2011",
        "2021",
    ]


@pytest.mark.parametrize("ending", ["nc", "zarr", "csv"])
def test_fields_in_a_name_make_a_file_of_each(tmp_path, ending):
    """Parts together hold what was there, in every format, and replace each other as a whole."""
    days = make_dataset(
        np.random.default_rng(0).random((800, 2, 2)), times=np.arange(800.0)
    )
    for overwrite in (False, True):
        rhodolite.write(
            days, tmp_path / f"{{variable}}_{{year}}.{ending}", overwrite=overwrite
        )
    names = [f"tas_{year}.{ending}" for year in (2000, 2001, 2002)]
    assert sorted(path.name for path in tmp_path.iterdir()) == names
    parts = [rhodolite.read(tmp_path / name) for name in names]
    assert [set(part.time.years) for part in parts] == [{2000}, {2001}, {2002}]
    joined = np.concatenate([part["tas"].values() for part in parts])
    np.testing.assert_allclose(joined, days["tas"].values(), rtol=1e-6)
    (tmp_path / f"tas_2001.{ending}").rename(tmp_path / "away")
    with pytest.raises(OutputError, match=rf"tas_2000.{ending}: exists already"):
        rhodolite.write(days, tmp_path / f"tas_{{year}}.{ending}")
    assert not (tmp_path / names[1]).exists()


def test_winters_months_decades_and_what_cannot_be_split(tmp_path):
    days = make_dataset(
        np.random.default_rng(0).random((4000, 1, 1)), times=np.arange(4000.0)
    )
    rhodolite.write(Aggregate(to="season")(days), tmp_path / "s_{year}.csv")
    rows = (tmp_path / "s_2003.csv").read_text().splitlines()[1:]
    seasons = [row.split(",")[0] for row in rows]
    assert seasons == ["2003 DJF", "2003 MAM", "2003 JJA", "2003 SON"]
    rhodolite.write(days, tmp_path / "{decade}.nc")
    assert {path.name for path in tmp_path.glob("*.nc")} == {
        "1991-2000.nc",
        "2001-2010.nc",
    }
    normals = Climatology(base="2001..2009")(days)
    rhodolite.write(normals, tmp_path / "n_{month}.nc")
    assert rhodolite.read(tmp_path / "n_03.nc").time.climatological
    for name, message in (
        ("n_{year}.nc", "a mean cycle has no years to be split by; there is {month}"),
        ("n_{yaer}.nc", "there is no field '{yaer}'. Did you mean year"),
        ("n_{region}.nc", "there is no dimension of regions; there are time, lat, lon"),
        ("n_{member}.nc", "there is no dimension of members"),
    ):
        with pytest.raises(rhodolite.RhodoliteError, match=re.escape(message)):
            rhodolite.write(normals, tmp_path / name)


def test_a_table_nobody_could_open_is_asked_for_twice(tmp_path):
    path = write_plain(tmp_path / "a.nc", np.zeros((1, 1, 1)))
    with netCDF4.Dataset(tmp_path / "long.nc", "w") as file:
        for name, size in (("lat", 4000), ("lon", 4000)):
            file.createDimension(name, size)
            file.createVariable(name, "f8", (name,))[:] = np.linspace(0, 80, size)
        file.createVariable("tas", "f4", ("lat", "lon"), chunksizes=(400, 400))
    answer = run_here(
        "subset", "long.nc", "--lat", "0..80", "-o", "long.csv", folder=tmp_path
    )
    assert answer.code == 4, answer.err
    assert "the table would have 16,000,000 rows, one for each cell" in answer.err
    assert run_here("subset", path, "-o", "a.csv", "--all", folder=tmp_path).code == 0
    assert run_here("subset", path, "-o", "b.nc", "--all", folder=tmp_path).code == 2


def test_a_letter_is_a_position_only_beside_the_other(tmp_path):
    """`time,x` is a series called x, from a table as from a frame; `x,y,v` lies at places."""
    frame = pandas.DataFrame({"time": ["2001-01-01", "2001-01-02"], "x": [1.5, 2.5]})
    frame.to_csv(tmp_path / "a.csv", index=False)
    frame["time"] = pandas.to_datetime(frame["time"])
    for data in (
        rhodolite.read(tmp_path / "a.csv"),
        rhodolite.from_pandas(frame, units={"x": "1"}),
    ):
        assert data["x"].dimensions == ("time",)
        np.testing.assert_array_equal(data["x"].values(), [1.5, 2.5])
    (tmp_path / "b.csv").write_text("x,y,v\n1,2,3\n2,3,4\n")
    assert rhodolite.read(tmp_path / "b.csv")["v"].dimensions == ("site",)
