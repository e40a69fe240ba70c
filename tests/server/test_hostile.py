"""Requests that nobody would send in good faith: a clear refusal or a right answer, and no more."""

from __future__ import annotations

import io
import json
import socket
import threading
import time
import urllib.request
from pathlib import Path
from xml.etree import ElementTree

import netCDF4
import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from PIL import Image
from scipy.interpolate import RegularGridInterpolator
from test_serve import Running

from conftest import make_dataset

pytest.importorskip("starlette")
import uvicorn

from rhodolite.arrays import InMemory, default_engine
from rhodolite.exchange.arrays import from_arrays
from rhodolite.model.variable import Variable
from rhodolite.operations.trend import Trend
from rhodolite.server import connections, dap, zarr_store
from rhodolite.server.app import make_app
from rhodolite.server.dap_constraints import parse_constraint
from rhodolite.server.edr import Collection
from rhodolite.server.gate import CALLER, Gate
from rhodolite.server.layers import Fields, layers_of
from rhodolite.server.limits import Limits, Refused
from rhodolite.server.served import Served, whole
from rhodolite.server.wms import Maps, write_error


def serve(**limits):
    values = np.arange(4.0 * 3 * 5).reshape(4, 3, 5)
    data = make_dataset(values, lats=[-30, 0, 30], lons=[0, 72, 144, 216, 288])
    return Served("d", data, default_engine(), Gate(Limits(**limits)))


@pytest.fixture(scope="module")
def served():
    return serve()


@given(st.permutations(["time", "lat", "tas.tas", "tas.lon", "lon", "tas.lat", "lat"]))
def test_the_order_and_number_of_requests_changes_no_answer(served, names):
    answers = [
        b"".join(dap.write_data(served, parse_constraint(served, ",".join(part))))
        for part in (names, sorted(names))
    ]
    assert answers[0] == answers[1]
    with pytest.raises(Refused, match="with different ranges"):
        parse_constraint(served, "tas.lat[0:1],lon,tas.lat")


@given(st.text("tas.lone[]:0123456789,&<>=%\"'\\/ \x00é", max_size=60))
@example("tas[0:1:3][0][0]")
@example("tas.tas[0][0][0],tas.lat[0:2]")
def test_any_constraint_is_answered_or_refused(served, text):
    try:
        projections = parse_constraint(served, text)
    except Refused as refusal:
        assert refusal.status in (400, 404)
        assert dap.write_error(refusal.status, str(refusal)).count("\n") == 4
        return
    body = b"".join(dap.write_data(served, projections))
    assert body.startswith(dap.write_dds(served, projections).encode())


_WORDS = st.one_of(
    st.text(max_size=12),
    st.sampled_from(
        [
            "tas",
            "tas,tas",
            ",",
            "image/webp",
            "image/jpeg",
            "2000-01-02T00:00:00.5+01:30",
            "1.3.0",
            "CRS:84",
            "EPSG:3857",
            "-180,-90,180,90",
            "0,0,1e-300,1e-300",
            "64",
            "1e9",
            "nan",
            "-1",
            "cells",
            "smooth/viridis",
            "2000-01-02",
            "GetMap",
            "GetFeatureInfo",
            "GetLegendGraphic",
            "GetCapabilities",
            "TRUE",
            "0x00ff00",
            "9" * 5000,
        ]
    ),
)
_KEYS = [
    *(
        "service",
        "request",
        "version",
        "layers",
        "query_layers",
        "layer",
        "crs",
        "srs",
        "bbox",
    ),
    *(
        "width",
        "height",
        "styles",
        "style",
        "time",
        "elevation",
        "format",
        "info_format",
    ),
    *("transparent", "bgcolor", "limits", "i", "j", "x", "y"),
]
_USUAL = {
    "request": "GetMap",
    "layers": "tas",
    "crs": "CRS:84",
    "bbox": "-180,-90,180,90",
    "width": "8",
    "height": "4",
}


@given(st.dictionaries(st.sampled_from(_KEYS), _WORDS, max_size=5))
def test_any_map_is_drawn_or_refused_in_xml(served, words):
    maps = Maps(served, Fields(1 << 20))
    try:
        content, media, _ = maps.answer({**_USUAL, **words}, 'http://h/?a=1&b="<')
    except Refused as refusal:
        assert refusal.status in (400, 404)
        ElementTree.fromstring(write_error(refusal, "1.3.0"))
        return
    assert content
    if "xml" in media:
        ElementTree.fromstring(content)


@given(
    st.sampled_from(["position", "area", "cube", "x"]),
    st.dictionaries(
        st.sampled_from(
            ["coords", "bbox", "datetime", "z", "parameter-name", "f", "over", "crs"]
        ),
        st.one_of(
            st.text(max_size=20),
            st.sampled_from(
                [
                    "POINT(0 0)",
                    "POINT(nan 0)",
                    "POINT EMPTY",
                    "POINT Z(0 0 0)",
                    "MULTIPOINT((0 0),(30 10))",
                    "MULTIPOLYGON(((0 0,90 0,90 40,0 0)),((-9 0,-1 0,-1 9,-9 0)))",
                    "netcdf",
                    "tas,tas",
                    "1000/100",
                    "2000-01-02T00:00+99:00",
                    "0,0,1,1",
                    "tas",
                    "POLYGON((0 0,90 0,90 40,0 0))",
                    "-180,-90,180,90",
                    "2000-01-02/..",
                    "../..",
                    "csv",
                    "area",
                    "GEOMETRYCOLLECTION(" * 50,
                    "1e999,0,1,1",
                    "-99999/99999-01",
                ]
            ),
        ),
        max_size=5,
    ),
)
def test_any_query_is_answered_or_refused(served, kind, words):
    try:
        content, media = Collection(served).query(kind, words)
    except Refused as refusal:
        assert refusal.status in (400, 404)
        return
    assert json.loads(content) if "json" in media else content.count(b"\n") >= 1


@given(st.text("zarr.json/tasc0123456789 ..%é", max_size=30))
def test_any_key_of_a_store_is_there_or_not(served, path):
    try:
        assert zarr_store.answer(served, path)[0]
    except Refused as refusal:
        assert refusal.status == 404


@pytest.mark.parametrize("order", [1, -1])
@pytest.mark.parametrize("west", [0.0, -180.0])
def test_maps_between_cells_agree_with_scipy(order, west):
    """Bilinear, against scipy's interpolation on a grid that is repeated round the world; every
    pixel has the class of that value but where it lies within rounding of an edge."""
    rng = np.random.default_rng(2)
    lats, lons = np.arange(-80.0, 81, 20)[::order], west + np.arange(0.0, 360, 30)
    values = rng.normal(280, 5, (1, lats.size, lons.size))
    data = make_dataset(values, lats=lats, lons=lons)
    maps = Maps(Served("d", data, default_engine(), Gate(Limits())), Fields(1 << 20))
    asked = {
        **_USUAL,
        "bbox": "-170,-70,170,70",
        "width": "85",
        "height": "35",
        "styles": "smooth",
    }
    picture = Image.open(io.BytesIO(maps.answer(asked, "")[0]))
    x, y = -170 + 4 * (np.arange(85) + 0.5), 70 - 4 * (np.arange(35) + 0.5)
    rows = np.argsort(lats)
    around = np.concatenate([lons - 360, lons, lons + 360])
    table = np.tile(values[0][rows], 3)
    ask = np.stack(np.meshgrid(y, x, indexing="ij"), axis=-1)
    expected = RegularGridInterpolator((lats[rows], around), table)(ask)
    edges = maps.layers["tas"].scale(None, (None, None), ()).scale.edges
    clear = np.abs(expected[..., None] - edges).min(axis=-1) > 1e-9
    classes = np.searchsorted(edges, expected, side="right") + 1
    np.testing.assert_array_equal(np.asarray(picture)[clear], classes[clear])


def test_capabilities_of_a_region_keep_to_the_schema():
    """Longitudes within 180 degrees; children in the order of the schema (1.3.0, annex E.1) and of
    the document type (1.1.1, annex A.1)."""
    order = {
        "1.3.0": [
            "Name",
            "Title",
            "EX_GeographicBoundingBox",
            "BoundingBox",
            "Dimension",
            "Style",
        ],
        "1.1.1": [
            "Name",
            "Title",
            "LatLonBoundingBox",
            "BoundingBox",
            "Dimension",
            "Extent",
            "Style",
        ],
    }
    for lons in ([200, 210, 220], [170, 180, 190], [0, 120, 240]):
        data = make_dataset(np.zeros((2, 3, 3)), lats=[0, 10, 20], lons=lons)
        maps = Maps(
            Served("d", data, default_engine(), Gate(Limits())), Fields(1 << 20)
        )
        for version, names in order.items():
            text = maps.answer(
                {"request": "GetCapabilities", "version": version}, "http://h/"
            )[0]
            tree = ElementTree.fromstring(text)
            plain = [(one.tag.rpartition("}")[2], one) for one in tree.iter()]
            layer = [one for tag, one in plain if tag == "Layer"][1]
            found = [one.tag.rpartition("}")[2] for one in layer]
            assert found == sorted(found, key=names.index)
            ends = [
                float(one.text) for tag, one in plain if tag.endswith("BoundLongitude")
            ]
            assert all(-180 <= end <= 180 for end in ends)


def test_work_that_takes_too_long_gives_way():
    slow = serve(seconds=1e-9)
    with pytest.raises(Refused, match=r"takes longer than 1e-09 s|busy"):
        list(dap.write_data(slow, parse_constraint(slow, "tas")))
    gate = Gate(Limits(seconds=0.05, at_once=1))
    with (
        gate.enter(),
        pytest.raises(Refused, match="busy with other requests"),
        gate.enter(),
    ):
        pass


def test_a_caller_who_asks_for_much_waits_for_others():
    gate, order, ready = Gate(Limits(at_once=2)), [], threading.Event()

    def ask(caller, place):
        CALLER.set(caller)
        with gate.enter():
            ready.wait(60)
            order.append((caller, place))

    threads = []
    for place, caller in enumerate(["greedy"] * 8 + ["other", "third"]):
        threads.append(threading.Thread(target=ask, args=(caller, place)))
        threads[-1].start()
        while gate.requests() <= place:
            time.sleep(0.001)
    ready.set()
    for thread in threads:
        thread.join()
    callers = [caller for caller, _ in order]
    assert max(callers.index("other"), callers.index("third")) <= 4
    assert gate.requests() == 0


@pytest.fixture
def bounded(monkeypatch):
    """The address of a server that gives requests a moment, and places to twenty callers."""
    monkeypatch.setattr(connections, "IDLE_SECONDS", 0.5)
    monkeypatch.setattr(connections, "MOST_OPEN", 20)
    monkeypatch.setattr(connections, "_MOST_OF_AN_ADDRESS", 10)
    config = uvicorn.Config(
        make_app({"d": serve()}),
        port=0,
        http=connections.BoundedConnection,
        ws="none",
        log_config=None,
    )
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    yield server.servers[0].sockets[0].getsockname()
    server.should_exit = True
    thread.join()


def test_callers_who_say_nothing_hold_no_place(bounded):
    """Neither one who never asks nor one who never ends a question, nor very many of these."""
    for said in (
        b"",
        b"GET / HTTP/1.1\r\nHost: h\r\n",
        b"GET / HTTP/1.1\r\nHost: h\r\n\r\nGET",
    ):
        with socket.create_connection(bounded, timeout=60) as caller:
            caller.sendall(said)
            while caller.recv(1 << 16):
                pass
    crowd = [socket.create_connection(bounded, timeout=60) for _ in range(100)]
    with urllib.request.urlopen(
        f"http://127.0.0.1:{bounded[1]}/datasets", timeout=60
    ) as answer:
        assert answer.status == 200
    for caller in crowd:
        assert caller.recv(1) == b""
        caller.close()


@pytest.mark.parametrize(
    ("text", "steps"),
    [
        ("2000-01-01/2000-01-02", [0, 1]),
        ("2000-01-02T00:00:00Z/..", [1, 2, 3]),
        ("../2000-01-02T00:00:00Z", [0, 1]),
        ("2000", [0, 1, 2, 3]),
        ("2000-01-03", [2]),
        ("2000-01-03T05:00:00Z", [2]),
        ("2000-01-03T05:00:00Z/2000-01-03T07:00:00Z", [2]),
        ("2000-01-04T23:59:59Z", [3]),
        ("2001", None),
        ("2000-01-05/2000-01-09", None),
    ],
)
def test_a_time_means_all_that_it_names(served, text, steps):
    (layer,) = layers_of(served).values()
    if steps is None:
        with pytest.raises(
            Refused, match="times run from 2000-01-01T00:00:00Z to 2000-01-04"
        ):
            layer.steps(text)
        with pytest.raises(Refused, match="there is no time"):
            layer.picks(text.partition("/")[0], None)
    else:
        assert layer.steps(text).tolist() == steps


def test_a_level_is_the_nearest_within_what_levels_cover():
    values = np.arange(3.0).reshape(1, 3, 1, 1)
    axes = {
        "time": np.array(["2000-01-01"], "M8[D]"),
        "plev": np.float32([1000, 850, 500]),
    }
    axes |= {"lat": [0.0], "lon": [0.0]}
    data = from_arrays({"tas": values}, axes, units={"tas": "K", "plev": "hPa"})
    edges = [[1013.25, 925.0], [925.0, 675.0], [675.0, 400.0]]
    bounds = Variable("plev_bounds", ("plev", "bnds"), InMemory(np.array(edges)), {})
    axis = data["plev"].edit(bounds="plev_bounds")
    (plain,) = layers_of(Served("d", data, default_engine(), Gate(Limits()))).values()
    bounded = data.with_variables([*data.variables.values(), bounds, axis])
    (layer,) = layers_of(
        Served("d", bounded, default_engine(), Gate(Limits()))
    ).values()
    for asked, at in (("1010", 0), ("920", 1), ("400", 2)):
        assert dict(layer.picks(None, asked))["plev"] == at
    for of, asked in ((plain, "1010"), (plain, "499"), (layer, "1014"), (layer, "399")):
        with pytest.raises(Refused, match="levels run from 1000 to 500 hPa") as refused:
            of.picks(None, asked)
        assert refused.value.status == 404


def test_units_and_members_of_the_same_name_are_two_things():
    """Percentages as parts of one, `1`, beside a member that is called 1."""
    cover = np.array([10.0, 20.0]).reshape(2, 1, 1, 1)
    axes = {"member": [0, 1], "time": np.array(["2000-01-01"], "M8[D]")}
    axes |= {"lat": [0.0], "lon": [0.0]}
    data = from_arrays({"clt": cover}, axes, units={"clt": "%"})
    (layer,) = layers_of(Served("d", data, default_engine(), Gate(Limits()))).values()

    def value(chosen):
        return float(chosen.read(chosen.picks(None, None))[0, 0])

    assert value(layer.in_units("1")) == 0.1
    assert value(layer.of_member("1")) == 20.0
    assert value(layer.of_member("1").in_units("1")) == 0.2


@pytest.mark.parametrize(
    ("months", "asked", "at"),
    [(1, "2000-01-31", 0), (1, "2000-02-29T23:00:00Z", 1), (1, "2000-02", 1)]
    + [(3, "2000-03-31", 0), (3, "2000-04-01", 1), (12, "2001-01-01", 1)],
)
def test_a_map_of_a_time_is_of_the_step_that_covers_it(months, asked, at):
    """The last day of January is nearer to 1 February, and is of January."""
    begins = np.datetime64("2000-01") + np.arange(3) * months
    axes = {"time": begins.astype("M8[D]"), "lat": [0.0], "lon": [0.0]}
    data = from_arrays({"tas": np.zeros((3, 1, 1))}, axes, units={"tas": "K"})
    (layer,) = layers_of(Served("d", data, default_engine(), Gate(Limits()))).values()
    assert dict(layer.picks(asked, None))["time"] == at


def test_a_pixel_beside_a_map_is_where_it_lies(served):
    """Clients ask for one where tiles meet: west of the map is not its eastern end."""
    maps = Maps(served, Fields(1 << 20))
    words = {
        "service": "WMS",
        "request": "GetFeatureInfo",
        "version": "1.3.0",
        "layers": "tas",
    }
    words |= {"query_layers": "tas", "crs": "EPSG:4326", "width": "4", "height": "3"}
    words |= {"bbox": "-45,-36,45,252", "styles": "", "info_format": "application/json"}

    def value(column, row):
        asked = {**words, "i": str(column), "j": str(row), "time": "2000-01-01"}
        return json.loads(maps.answer(asked, "http://h")[0])["value"]

    assert [value(column, 0) for column in (-1, 0, 3, 4)] == [14.0, 10.0, 13.0, 14.0]
    for place in (("-2", "0"), ("0", "4"), ("5", "0"), ("x", "0")):
        with pytest.raises(Refused, match="I AND J are a pixel of the map"):
            value(*place)


def test_names_asked_for_twice_are_answered_once():
    one = serve()
    assert parse_constraint(one, "tas,tas,lat,tas") == parse_constraint(one, "tas,lat")
    asked = {"coords": "POINT(0 0)", "parameter-name": "tas,tas"}
    once = Collection(one).query("position", {**asked, "parameter-name": "tas"})
    assert Collection(one).query("position", asked) == once


def test_what_takes_longer_to_compute_than_an_answer_may_is_given_up():
    values = np.arange(60.0 * 30 * 50).reshape(60, 30, 50)
    data = make_dataset(values, lats=np.arange(30.0), lons=np.arange(50.0))
    trend = Trend(serial_correlation="none")(data)
    slow = Served(
        "d", trend, default_engine(memory=1 << 20), Gate(Limits(seconds=1e-9))
    )
    with pytest.raises(Refused, match="to compute this takes longer than 1e-09 s"):
        slow.read(trend["tas_trend"].data, whole(trend["tas_trend"]))
    patient = Served("d", trend, default_engine(), Gate(Limits()))
    made = patient.read(trend["tas_trend"].data, whole(trend["tas_trend"]))
    assert np.isfinite(made).all()


@pytest.mark.slow
def test_the_corner_of_a_large_variable_costs_little_and_slow_callers_hold_nothing_up(
    tmp_path,
):
    with netCDF4.Dataset(tmp_path / "large.nc", "w") as file:
        for name, size in (("time", 500), ("lat", 1000), ("lon", 1000)):
            file.createDimension(name, size)
            file.createVariable(name, "f8", (name,))[:] = np.linspace(0, 80, size)
        made = file.createVariable(
            "tas", "f4", ("time", "lat", "lon"), chunksizes=(10, 100, 100)
        )
        made[490:, 990:, 990:] = 7
    running = Running(tmp_path, "serve", "large.nc")
    host, port = running.root.removeprefix("http://").split(":")
    callers = []
    for number in range(20):
        caller = socket.create_connection((host, int(port)))
        # Some never end their request, others never read the answer.
        end = b"Host: x\r\n\r\n" if number < 10 else b""
        caller.sendall(b"GET /dap/large.dods HTTP/1.1\r\n" + end)
        callers.append(caller)
    began = time.monotonic()
    with netCDF4.Dataset(f"{running.root}/dap/large") as remote:
        corner = remote["tas"][490:, 990:, 990:]
    assert np.all(corner == 7)
    assert time.monotonic() - began < 600
    asked = urllib.request.Request(f"{running.root}/dap/large.dods", method="HEAD")
    with urllib.request.urlopen(asked) as answer:
        assert answer.status == 200
    status = Path(f"/proc/{running.process.pid}/status")
    if status.exists():
        assert int(status.read_text().partition("VmHWM:")[2].split()[0]) < 700_000
    for caller in callers:
        caller.close()
    assert running.stop() == 0
