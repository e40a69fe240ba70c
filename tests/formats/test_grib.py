"""GRIB read as eccodes wrote it: positions, times, levels, and values of every packing."""

import itertools
import struct

import netCDF4
import numpy as np
import pyproj
import pytest
from tests.conftest import run_here

import rhodolite
from rhodolite.errors import DataError

eccodes = pytest.importorskip("eccodes")
GLOBE = {
    "Ni": 12, "Nj": 7, "latitudeOfFirstGridPointInDegrees": 90,
    "latitudeOfLastGridPointInDegrees": -90, "longitudeOfFirstGridPointInDegrees": 0,
    "longitudeOfLastGridPointInDegrees": 330, "iDirectionIncrementInDegrees": 30,
    "jDirectionIncrementInDegrees": 30, "dataDate": 20010101, "dataTime": 1200,
}  # fmt: skip
SUM = {"productDefinitionTemplateNumber": 8, "shortName": "tp", "stepType": "accum"}


def message(values, sample="regular_ll_sfc_grib2", packing=None, **keys):
    """Return a message and the values that the library finds in it."""
    handle = eccodes.codes_grib_new_from_samples(sample)
    for key, value in {"bitsPerValue": 16, **keys}.items():
        eccodes.codes_set(handle, key, value)
    eccodes.codes_set_values(handle, np.ravel(values).astype(float))
    if packing:
        eccodes.codes_set(handle, "packingType", packing)
    content = eccodes.codes_get_message(handle)
    stored = eccodes.codes_get_values(handle)
    eccodes.codes_release(handle)
    return content, stored


def field(seed=0, **keys):
    values = np.random.default_rng(seed).normal(280, 10, (7, 12))
    return message(values, **{**GLOBE, **keys})


def test_levels_times_and_values_of_a_file_are_those_of_its_messages(tmp_path):
    parts, truth = [], {}
    for seed, (day, level) in enumerate(itertools.product((3, 1, 2), (500, 1000, 850))):
        content, stored = field(
            seed, dataDate=20010100 + day, shortName="t", typeOfLevel="isobaricInhPa", level=level
        )  # fmt: skip
        parts.append(content)
        truth[day, level] = stored.reshape(7, 12)
    near, _ = field(99, shortName="2t")
    path = tmp_path / "week.grib"
    # A heading of a bulletin, and bytes of nothing, lie between messages.
    path.write_bytes(
        b"\r\r\n001\r\nABCD10 NOWHERE\r\r\n" + b"junk\0".join([*parts, near])
    )
    with pytest.warns(UserWarning, match=r"2 of the 3 maps of t2m"):
        data = rhodolite.read(path)
    assert data["pressure"].values().tolist() == [500, 850, 1000]
    assert data["t"].dimensions == ("time", "pressure", "lat", "lon")
    values = data["t"].values()
    for (day, level), expected in truth.items():
        at = day - 1, [500, 850, 1000].index(level)
        np.testing.assert_array_equal(values[at], expected)
    assert data["t2m"].attributes["coordinates"].split()[-1] == "height"
    assert data["height"].values() == 2
    run_here(
        "subset", path, "--level", "850", "--variable", "t", "-o", tmp_path / "t.nc"
    )
    with netCDF4.Dataset(tmp_path / "t.nc") as file:
        assert file["t"].dtype == "f4"
        assert file["t"].standard_name == "air_temperature"
        stored = np.stack([truth[day, 850] for day in (1, 2, 3)])
        np.testing.assert_array_equal(file["t"][:].squeeze(), stored.astype("f4"))
        times = netCDF4.num2date(file["time"][:], file["time"].units)
        assert [str(time) for time in times] == [
            f"2001-01-0{day} 12:00:00" for day in (1, 2, 3)
        ]


@pytest.mark.parametrize(
    "packing",
    ["grid_simple", "grid_ccsds", "grid_second_order", "grid_complex_spatial_differencing",
     "grid_jpeg", "grid_ieee"],
)  # fmt: skip
@pytest.mark.parametrize("gap", [False, True])
def test_values_of_every_packing_and_bitmap(tmp_path, packing, gap):
    values = np.random.default_rng(1).normal(280, 10, (7, 12)).round(2)
    keys = {"packing": packing}
    if gap:
        values[2:4, 3:5] = 9999
        keys |= {"bitmapPresent": 1, "missingValue": 9999}
    content, stored = message(values, **GLOBE, **keys)
    (tmp_path / "p.grb2").write_bytes(content)
    expected = np.where(stored == 9999, np.nan, stored).reshape(7, 12)
    assert np.isnan(expected).sum() == (4 if gap else 0)
    data = rhodolite.read(tmp_path / "p.grb2")
    np.testing.assert_array_equal(data.fields[0].values()[0], expected)


@pytest.mark.parametrize("flags", list(itertools.product((0, 1), repeat=4)))
@pytest.mark.parametrize("kind", ["regular_ll", "rotated_ll", "polar_stereographic"])
def test_values_lie_where_the_flags_of_scanning_say(tmp_path, kind, flags):
    """Flag table 3.4: a message lists its values row by row from the first point."""
    west, north, by_column, turned = flags[0], not flags[1], flags[2], flags[3]
    columns, rows = 5, 3
    names = ("iScansNegatively", "jScansPositively")
    names += ("jPointsAreConsecutive", "alternativeRowScanning")
    keys = dict(zip(names, flags, strict=True)) | {"numberOfDataPoints": columns * rows}
    if kind == "polar_stereographic":
        keys |= {"Nx": columns, "Ny": rows, "DxInMetres": 50000, "DyInMetres": 60000}
        keys |= {"latitudeOfFirstGridPointInDegrees": 55}
        keys |= {"longitudeOfFirstGridPointInDegrees": 20}
    else:
        lat, lon = (40, 30) if north else (30, 40), (50, 10) if west else (10, 50)
        keys |= {"Ni": columns, "Nj": rows, "iDirectionIncrementInDegrees": 10}
        keys |= {"jDirectionIncrementInDegrees": 5}
        for at, which in enumerate(("First", "Last")):
            keys[f"latitudeOf{which}GridPointInDegrees"] = lat[at]
            keys[f"longitudeOf{which}GridPointInDegrees"] = lon[at]
        if kind == "rotated_ll":
            keys |= {"latitudeOfSouthernPoleInDegrees": -40}
            keys |= {"longitudeOfSouthernPoleInDegrees": 15}
    order = [(row, column) for row in range(rows) for column in range(columns)]
    if by_column:
        order = [(row, column) for column in range(columns) for row in range(rows)]
    if turned:
        outer, length = (1, rows) if by_column else (0, columns)
        lines = [order[at : at + length] for at in range(0, len(order), length)]
        order = [
            place
            for line in lines
            for place in line[:: -1 if line[0][outer] % 2 else 1]
        ]
    content, stored = message(np.arange(15.0), f"{kind}_sfc_grib2", **keys)
    (tmp_path / "s.grib2").write_bytes(content)
    data = rhodolite.read(tmp_path / "s.grib2")
    variable = data.fields[0]
    y, x = (data[name].values() for name in variable.dimensions[-2:])
    for number, (row, column) in zip(stored, order, strict=True):
        assert variable.values()[0, row, column] == number
    assert (np.diff(y) < 0).all() == north
    assert (np.diff(x) < 0).all() == bool(west)
    if kind == "polar_stereographic":
        place = pyproj.Proj("+proj=stere +lat_ts=60 +lat_0=90 +lon_0=0 +R=6371229")
        first = place(20, 55)
        np.testing.assert_allclose([x[0], y[0]], first, atol=1e-3)
        np.testing.assert_allclose(data["lat"].values()[0, 0], 55, atol=1e-6)
        assert abs(x[1] - x[0]) == 50000
    elif kind == "rotated_ll":
        handle = eccodes.codes_new_from_message(content)
        positions = eccodes.codes_get_double_array(handle, "latitudes")
        eccodes.codes_release(handle)
        ours = sorted(data["lat"].values().ravel())
        np.testing.assert_allclose(ours, sorted(positions), atol=1e-5)
    else:
        assert y[0] == lat[0]
        assert x[0] == lon[0]


@pytest.mark.parametrize("sample", ["regular_ll_pl_grib1", "reduced_gg_pl_32_grib2"])
def test_other_samples_of_the_library(tmp_path, sample):
    handle = eccodes.codes_grib_new_from_samples(sample)
    size = eccodes.codes_get(handle, "numberOfDataPoints")
    eccodes.codes_set(handle, "bitsPerValue", 12)
    values = np.random.default_rng(2).normal(size=size)
    eccodes.codes_set_values(handle, values)
    (tmp_path / "a.grib").write_bytes(eccodes.codes_get_message(handle))
    stored = eccodes.codes_get_values(handle)
    latitudes = eccodes.codes_get_double_array(handle, "latitudes")
    eccodes.codes_release(handle)
    data = rhodolite.read(tmp_path / "a.grib")
    np.testing.assert_array_equal(data.fields[0].values().ravel(), stored)
    lat = data["lat"].values()
    assert sorted(set(lat.round(5))) == sorted(set(latitudes.round(5)))
    if "reduced" in sample:
        # The cells fill the sphere: each row is a zone of which every cell has the same part.
        zones = np.diff(np.sin(np.radians(np.unique(data["lat_bnds"].values()))))
        _, row = np.unique(lat, return_inverse=True)
        parts = (zones / np.bincount(row))[row]
        mean = data.summarise(over="area").fields[0].values()
        np.testing.assert_allclose(mean, (stored * parts).sum() / 2, atol=1e-9)


def test_several_fields_in_one_message_are_all_read(tmp_path):
    """One message with a bitmap that the second of its fields repeats (code 254 of section 6)."""
    values = np.random.default_rng(3).normal(280, 10, (7, 12)).round(1)
    values[1, 1] = 9999
    parts, truth = [], []
    for step in (0, 6):
        content, stored = message(
            values + step * (values < 9999), **GLOBE, step=step, bitmapPresent=1, missingValue=9999
        )  # fmt: skip
        truth.append(np.where(stored == 9999, np.nan, stored).reshape(7, 12))
        sections, at = {}, 16
        while content[at : at + 4] != b"7777":
            size = struct.unpack(">I", content[at : at + 4])[0]
            sections[content[at + 4]] = content[at : at + size]
            at += size
        parts.append((content[:16], sections))
    start, first = parts[0]
    second = {**parts[1][1], 6: struct.pack(">IBB", 6, 6, 254)}
    body = [
        start,
        *(first[n] for n in sorted(first)),
        *(second[n] for n in (4, 5, 6, 7)),
    ]
    whole = b"".join(body) + b"7777"
    whole = whole[:8] + struct.pack(">Q", len(whole)) + whole[16:]
    (tmp_path / "m.grib2").write_bytes(whole)
    data = rhodolite.read(tmp_path / "m.grib2")
    np.testing.assert_array_equal(data.fields[0].values(), np.stack(truth))


def test_amounts_since_the_start_lie_beside_instants_and_intervals_apart(tmp_path):
    instants = [field(s, shortName="2t", step=s)[0] for s in (0, 6, 12)]
    sums = [field(s, **SUM, stepRange=f"0-{s}") for s in (6, 12)]
    since = [content for content, _ in sums]
    (tmp_path / "f.grib2").write_bytes(b"".join([*instants, *since]))
    with pytest.warns(UserWarning, match="1 of the 3 maps of tp"):
        data = rhodolite.read(tmp_path / "f.grib2")
    assert {field.name for field in data.fields} == {"t2m", "tp"}
    comment = "time: sum (comment: since the start of the forecast)"
    assert data["tp"].attributes["cell_methods"] == comment
    assert data["lead_time"].values().tolist() == [0, 6, 12]
    # Where forecasts start is told, so that a single one can be taken apart.
    amounts = data.convert(amounts="since-start")["tp"].values()
    first, second = (part[1].reshape(7, 12) for part in sums)
    np.testing.assert_array_equal(amounts[1], first)
    np.testing.assert_array_equal(amounts[2], np.maximum(second - first, 0))
    each = [field(s, **SUM, stepRange=f"{s - 6}-{s}")[0] for s in (6, 12)]
    (tmp_path / "g.grib2").write_bytes(b"".join([*instants, *each]))
    answer = run_here("inspect", tmp_path / "g.grib2")
    assert answer.code != 0
    assert "g.grib2:/instants" in answer.err
    assert "g.grib2:/sums" in answer.err
    sums = rhodolite.read(tmp_path / "g.grib2", group="sums")
    hours = sums["time_bnds"].values()
    assert (hours - hours.min()).tolist() == [[0, 6], [6, 12]]


def test_forecasts_that_overlap_are_taken_by_run_or_by_lead(tmp_path):
    parts = [
        field(10 * day + step, dataDate=20010100 + day, step=step)[0]
        for day, step in itertools.product((1, 2), (0, 24))
    ]
    (tmp_path / "o.grib2").write_bytes(b"".join(parts))
    path = tmp_path / "o.grib2"
    with pytest.raises(DataError, match="run_2001-01-01T12"):
        rhodolite.read(path)
    for group, days, seeds in (
        ("lead_24h", [2, 3], [34, 44]),
        ("run_2001-01-02T12", [2, 3], [20, 44]),
    ):
        data = rhodolite.read(path, group=group)
        times = data["time"]
        dates = netCDF4.num2date(times.values(), times.units)
        assert [date.day for date in dates] == days
        means = [field(seed)[1].mean() for seed in seeds]
        got = data.fields[0].values().mean(axis=(1, 2))
        np.testing.assert_allclose(got, means)


def test_members_soil_layers_and_model_levels(tmp_path):
    ensemble = {"productDefinitionTemplateNumber": 1, "numberOfForecastsInEnsemble": 3}
    parts = [field(n, **ensemble, perturbationNumber=n)[0] for n in (2, 0, 1)]
    (tmp_path / "e.grib2").write_bytes(b"".join(parts))
    data = rhodolite.read(tmp_path / "e.grib2")
    assert data.fields[0].dimensions[0] == "member"
    expected = [field(n, **ensemble, perturbationNumber=n)[1].mean() for n in (0, 1, 2)]
    np.testing.assert_allclose(data.fields[0].values().mean(axis=(1, 2, 3)), expected)
    layers = [
        field(9, typeOfFirstFixedSurface=106, typeOfSecondFixedSurface=106,
              scaleFactorOfFirstFixedSurface=2, scaledValueOfFirstFixedSurface=top,
              scaleFactorOfSecondFixedSurface=2, scaledValueOfSecondFixedSurface=end)[0]
        for top, end in ((7, 28), (0, 7))
    ]  # fmt: skip
    (tmp_path / "s.grib2").write_bytes(b"".join(layers))
    soil = rhodolite.read(tmp_path / "s.grib2")
    assert soil["soil_depth_bnds"].values().tolist() == [[0, 0.07], [0.07, 0.28]]
    half, share = [0, 2000, 4000, 0], [0, 0, 0.25, 1]
    model = []
    for seed, keys in enumerate(
        [{"typeOfLevel": "hybrid", "level": level} for level in (1, 2, 3)] + [{"shortName": "sp"}]
    ):  # fmt: skip
        handle = eccodes.codes_new_from_message(field(seed)[0])
        for key, value in keys.items():
            eccodes.codes_set(handle, key, value)
        if "level" in keys:
            eccodes.codes_set(handle, "PVPresent", 1)
            eccodes.codes_set_array(handle, "pv", [*map(float, half), *share])
        model.append(eccodes.codes_get_message(handle))
        eccodes.codes_release(handle)
    (tmp_path / "h.grib2").write_bytes(b"".join(model))
    hybrid = rhodolite.read(tmp_path / "h.grib2")
    assert hybrid["model_level"].attributes["formula_terms"] == "ap: ap b: b ps: sp"
    assert hybrid["ap"].values().tolist() == [1000, 3000, 2000]
    np.testing.assert_allclose(hybrid["b"].values(), [0, 0.125, 0.625])


def test_what_is_damaged_twice_there_or_no_grid_is_said(tmp_path):
    content, _ = field()
    path = tmp_path / "d.grib2"
    for bytes_, reason in (
        (content + content[:-20], "20 bytes of it are missing"),
        (content[:-4] + b"\0" * 4, "does not end where it says"),
        (content * 2, "more than once"),
        (b"GRIB" + b"\0" * 30, "edition 0"),
    ):
        path.write_bytes(bytes_)
        with pytest.raises(DataError, match=reason):
            rhodolite.read(path)
    handle = eccodes.codes_grib_new_from_samples("sh_ml_grib2")
    path.write_bytes(eccodes.codes_get_message(handle))
    eccodes.codes_release(handle)
    with pytest.raises(DataError, match="spherical harmonics"):
        rhodolite.read(path)


def starts_of(file):
    """The times of a file, and the bounds of those that have some, as dates."""
    data = rhodolite.read(file)
    axis = data.need_time()
    bounds = [] if axis.bounds is None else axis.to_dates(axis.bounds)
    return (
        [f"{date:%Y-%m-%d}" for date in axis.dates],
        [tuple(f"{end:%Y-%m-%d}" for end in ends) for ends in bounds],
    )


_MEAN = {"productDefinitionTemplateNumber": 8, "typeOfStatisticalProcessing": 0}


@pytest.mark.parametrize(
    "parts",
    [
        # The mean of each month, and forecasts for the first, second and third of them.
        [({"dataDate": date}, 0) for date in (20010101, 20010201, 20010301)],
        [({"dataDate": 20010101}, ahead) for ahead in (0, 1, 2)],
    ],
)
def test_means_of_months_are_of_those_of_the_calendar(tmp_path, parts):
    """The library takes a month for 30 days."""
    content = b""
    for number, (date, ahead) in enumerate(parts):
        months = {
            "indicatorOfUnitOfTimeRange": 3,
            "forecastTime": ahead,
            "indicatorOfUnitForTimeRange": 3,
            "lengthOfTimeRange": 1,
        }
        content += field(number, **date, **_MEAN, **months)[0]
    (tmp_path / "a.grib2").write_bytes(content)
    months = ["2001-01-01", "2001-02-01", "2001-03-01", "2001-04-01"]
    assert starts_of(tmp_path / "a.grib2")[1] == list(itertools.pairwise(months))
    assert [len(v.dimensions) for v in rhodolite.read(tmp_path / "a.grib2").fields] == [
        3
    ]


@pytest.mark.parametrize(
    ("sample", "keys", "dates", "bounds"),
    [
        ("2", {"forecastTime": 1}, ["2001-02-28"], []),
        ("2", {"forecastTime": 14}, ["2002-03-31"], []),
        ("1", {"P1": 2, "timeRangeIndicator": 0}, ["2001-03-31"], []),
        (
            "1",
            {"P1": 1, "P2": 2, "timeRangeIndicator": 3},
            ["2001-03-31"],
            [("2001-02-28", "2001-03-31")],
        ),
    ],
)
def test_forecasts_in_months_end_on_the_day_they_were_made(
    tmp_path, sample, keys, dates, bounds
):
    """Or on the last of a month that is shorter."""
    content, _ = message(
        np.zeros(496),
        f"regular_ll_sfc_grib{sample}",
        dataDate=20010131,
        indicatorOfUnitOfTimeRange=3,
        **keys,
    )
    (tmp_path / "a.grib").write_bytes(content)
    assert starts_of(tmp_path / "a.grib") == (dates, bounds)


def test_months_beyond_the_calendar_are_refused(tmp_path):
    keys = {"indicatorOfUnitOfTimeRange": 3, "forecastTime": 2**31 - 1}
    (tmp_path / "a.grib2").write_bytes(field(0, **keys)[0])
    with pytest.raises(DataError, match="an interval that cannot be"):
        rhodolite.read(tmp_path / "a.grib2")


def test_many_fields_are_described_once(tmp_path, monkeypatch):
    """The keys of a file with many fields are kept; of one that has changed they are read again."""
    from rhodolite.formats.grib import keys

    path = tmp_path / "many.grib2"
    path.write_bytes(b"".join(field(s, step=s)[0] for s in range(120)))
    assert len(keys.read_fields(path)) == 120
    calls = []
    read = keys._read_keys
    monkeypatch.setattr(
        keys, "_read_keys", lambda *place: calls.append(place) or read(*place)
    )
    again = keys.read_fields(path)
    assert not calls
    assert [k.end for _, k in again] == [3600 * s for s in range(120)]
    with path.open("ab") as file:
        file.write(field(1, step=120)[0])
    keys.read_fields(path)
    assert len(calls) == 121
