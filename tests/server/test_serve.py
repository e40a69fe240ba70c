"""A running server, asked by programs of others: the NetCDF library, zarr, browsers' requests."""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import io
import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
import zlib
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path
from xml.etree import ElementTree

import netCDF4
import numpy as np
import pytest
import zarr
from covjson_pydantic.coverage import Coverage
from edr_pydantic.collections import Collection as CollectionModel
from numcodecs import zstd
from PIL import Image

import rhodolite
from conftest import run_here, write_plain
from rhodolite.server.listening import listen

pytest.importorskip("uvicorn")


_ODD_NAMES = ["a.b", "c d", "e[1]", "f,g", "h%i", "é", "i(j)", "m+n", "q'r"]


class Running:
    """A server in a process of its own, and what it says."""

    def __init__(self, folder, *words):
        command = [sys.executable, "-m", "rhodolite", *map(str, words), "--port", "0"]
        self.process = subprocess.Popen(
            command,
            cwd=folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        lines = []
        for line in self.process.stdout:
            lines.append(line.strip())
            if line.strip().endswith("/"):
                break
        assert lines, self.process.stderr.read()
        self.addresses, self.root = lines[:-1], lines[-1].rstrip("/")
        self.log = []
        self._reader = threading.Thread(
            target=lambda: self.log.extend(self.process.stderr)
        )
        self._reader.start()

    def get(self, path, **headers):
        """Return status, headers and body."""
        request = urllib.request.Request(self.root + path, headers=headers)
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return answer.status, answer.headers, answer.read()
        except urllib.error.HTTPError as error:
            return error.code, error.headers, error.read()

    def stop(self, how=signal.SIGINT):
        self.process.send_signal(how)
        code = self.process.wait(60)
        self._reader.join()
        self.process.stdout.close()
        self.process.stderr.close()
        return code


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("served")
    rng = np.random.default_rng(1)
    values = rng.normal(280, 5, (36, 7, 9)).astype("f4")
    values[3, 2, 4] = np.nan
    write_plain(
        folder / "maps.nc",
        values,
        times=np.arange(36) * 30.4375 + 15,
        lats=np.arange(-60.0, 61, 20),
        lons=np.arange(0.0, 360, 40),
        fill=np.float32(np.nan),
        chunksizes=(5, 4, 9),
    )
    with netCDF4.Dataset(folder / "types.nc", "w") as file:
        file.createDimension("n", 5)
        file.createDimension("m", 3)
        for kind in ("i1", "u1", "i2", "u2", "i4", "u4", "i8", "f4", "f8"):
            made = file.createVariable(f"v_{kind}", kind, ("n", "m"))
            # Unsigned numbers as large as they get, but for those that are marks of themselves.
            top = {"u1": 254, "u2": 2**16 - 2, "u4": 2**32 - 2}.get(kind, 7)
            made[:] = top - np.arange(15).reshape(5, 3)
            made.setncattr("about", np.array([1, 2], kind))
        names = file.createVariable("names", str, ("n",))
        names[:] = np.array(["a", "", "cdefg", 'quote " <b>', "æø"], dtype=object)
        file.createVariable("one", "i2", ())[...] = -5
        file.createVariable("odd", "u1", ("n",))[:] = [1, 2, 3, 4, 5]
        file.title = 'A "title" & <more>'
    with netCDF4.Dataset(folder / "levels.nc", "w") as file:
        axes = {
            "plev": [1000, 850, 500, 200],
            "lat": [0, 10, 20],
            "lon": [0, 10, 20, 30],
        }
        units = {"plev": "hPa", "lat": "degrees_north", "lon": "degrees_east"}
        for name, numbers in axes.items():
            file.createDimension(name, len(numbers))
            file.createVariable(name, "f8", (name,))[:] = numbers
            file[name].units = units[name]
        file["plev"].positive = "down"
        file.createVariable("ta", "f4", tuple(axes))[:] = np.arange(48).reshape(4, 3, 4)
    with netCDF4.Dataset(folder / "turned.nc", "w") as file:
        file.createDimension("nv", 2)
        for name, size in (("rlat", 4), ("rlon", 5)):
            file.createDimension(name, size)
            file.createVariable(name, "f8", (name,))[:] = np.arange(size)
            file[name].bounds = f"{name}_bnds"
        for name in ("lat", "lon"):
            file.createVariable(name, "f8", ("rlat", "rlon"))[:] = (
                rng.random((4, 5)) * 50
            )
        file.createVariable("rlat_bnds", "f8", ("rlat", "nv"))[:] = rng.random((4, 2))
        file.createVariable("rotated_pole", "i4", ())[...] = 3
        file.createVariable("rlon_bnds", "f8", ("rlon", "nv"))[:] = rng.random((5, 2))
        file.createVariable("tas", "f4", ("rlat", "rlon"))[:] = rng.random((4, 5))
        file["tas"].number = np.int64(2**60 + 1)
        for at, name in enumerate(_ODD_NAMES):
            file.createVariable(name, "i4", ("rlat",))[:] = at
    return folder


@pytest.fixture(scope="module")
def server(folder):
    running = Running(
        folder, "serve", "maps.nc", "other=types.nc", "turned.nc", "levels.nc"
    )
    yield running
    running.stop()


def test_the_netcdf_library_reads_all_types_as_they_are(server, folder):
    with (
        netCDF4.Dataset(f"{server.root}/dap/other") as remote,
        netCDF4.Dataset(folder / "types.nc") as local,
    ):
        for data in (remote, local):
            data.set_auto_mask(False)
        assert remote.title == local.title
        assert set(remote.variables) == set(local.variables)
        for name, variable in local.variables.items():
            if name == "names":  # characters in rows, as that library has texts
                texts = [
                    row.tobytes().rstrip(b"\0").decode() for row in remote[name][...]
                ]
                assert texts == list(variable[...])
                continue
            np.testing.assert_array_equal(
                remote[name][...], variable[...], err_msg=name
            )
            if variable.ndim == 2:
                np.testing.assert_array_equal(
                    remote[name][1:5:2, ::-1], variable[1:5:2, ::-1]
                )
                np.testing.assert_array_equal(remote[name].about, variable.about)


def test_the_netcdf_library_finds_small_grids_before_what_is_none(server, folder):
    """It asks for all small variables at once, plain ones first, and expects the order of the
    whole description."""
    with netCDF4.Dataset(folder / "turned.nc") as local:
        plain = [name for name in local.variables if name not in _ODD_NAMES]
        for first in plain:
            with netCDF4.Dataset(f"{server.root}/dap/turned") as remote:
                for name in (first, *plain):
                    np.testing.assert_array_equal(remote[name][...], local[name][...])


def test_names_of_any_letters_and_wide_integers_come_through(server):
    with netCDF4.Dataset(f"{server.root}/dap/turned") as remote:
        odd = list(remote.variables)[-len(_ODD_NAMES) :]
        assert odd[:2] == ["a%2Eb", "c%20d"]
        assert [set(remote[name][...].tolist()) for name in odd] == [
            {at} for at in range(len(odd))
        ]
        assert remote["tas"].number == str(2**60 + 1)


@pytest.mark.parametrize("name", ["types", "turned", "levels"])
def test_the_fourth_version_has_every_type_as_it_is(server, folder, name):
    served = "other" if name == "types" else name
    with (
        netCDF4.Dataset(f"{server.root}/dap/{served}#dap4") as remote,
        netCDF4.Dataset(folder / f"{name}.nc") as local,
    ):
        for data in (remote, local):
            data.set_auto_mask(False)
        # That client leaves out names that it cannot have, and asks wrongly for dots.
        names = [n for n in local.variables if n in remote.variables and "." not in n]
        assert set(local.variables) - set(names) <= set(_ODD_NAMES)
        for name in names:
            assert remote[name].dtype == local[name].dtype
            np.testing.assert_array_equal(remote[name][...], local[name][...])
            for key in set(local[name].ncattrs()) - {"bounds"}:
                expected = np.asarray(local[name].getncattr(key))
                assert np.asarray(remote[name].getncattr(key)).dtype == expected.dtype
                if expected.dtype == "f4":  # that client reads even "1" as 1.0000002
                    np.testing.assert_allclose(
                        remote[name].getncattr(key), expected, rtol=5e-7
                    )
                else:
                    np.testing.assert_array_equal(remote[name].getncattr(key), expected)
            if local[name].ndim == 2:
                part = (slice(1, 5, 2), slice(None, None, 2))
                np.testing.assert_array_equal(remote[name][part], local[name][part])


def test_answers_of_the_fourth_version_carry_checksums(server, folder):
    with netCDF4.Dataset(folder / "maps.nc") as local:
        local.set_auto_mask(False)
        expected = {
            "tas": local["tas"][2:9:3, :, 4:5].astype("<f4").tobytes(),
            "lat": local["lat"][:].tobytes(),
        }
    wanted = urllib.parse.quote("/tas[2:3:8][][4];lat")
    for checksums in ("true", "false"):
        _, headers, body = server.get(
            f"/dap/maps.dap?dap4.ce={wanted}&dap4.checksum={checksums}"
        )
        assert headers["content-type"] == "application/vnd.opendap.dap4.data"
        chunks, last = [], 0
        while not last:
            head = int.from_bytes(body[:4], "big")
            last, size = head >> 24 & 1, head & 0xFFFFFF
            chunks.append(body[4 : 4 + size])
            body = body[4 + size :]
        assert not body
        assert b'<Dim size="3"/>' in chunks[0]
        parts = [expected["lat"], expected["tas"]]
        if checksums == "true":
            parts = [part + zlib.crc32(part).to_bytes(4, "little") for part in parts]
        # Variables come in the order of the description, whatever was asked for first.
        names = re.findall(rb"<Float\d+ name=\"(\w+)\"", chunks[0])
        assert names == [b"lat", b"tas"]
        assert b"".join(chunks[1:]) == b"".join(parts)


def test_answers_come_in_parts_to_those_who_ask(server):
    query = "/edr/collections/levels/cube?bbox=0,0,30,20&f=NetCDF"
    for address in ("/zarr/maps/tas/c/0/0/0", "/static/view.js", query):
        _, headers, whole = server.get(address)
        assert headers["accept-ranges"] == "bytes"
        tag, size = headers["etag"], len(whole)
        for text, start, stop in (
            ("bytes=0-9", 0, 10),
            ("bytes=10-", 10, size),
            ("bytes=-7", size - 7, size),
            (f"bytes=5-{size + 99}", 5, size),
        ):
            for more in ({}, {"If-Range": tag}):
                status, headers, part = server.get(address, Range=text, **more)
                assert (status, part) == (206, whole[start:stop]), (address, text)
                expected = f"bytes {start}-{stop - 1}/{size}"
                assert headers["content-range"] == expected
        status, headers, part = server.get(address, Range=f"bytes={size}-")
        assert (status, part) == (416, b"")
        assert headers["content-range"] == f"bytes */{size}"
        # Several ranges, other units, and what was cut from another state: the whole.
        for more in (
            {"Range": "bytes=0-1,4-5"},
            {"Range": "lines=0-1"},
            {"Range": "bytes=9-3"},
            {"Range": "bytes=0-1", "If-Range": '"other"'},
        ):
            assert server.get(address, **more)[::2] == (200, whole)


def test_slices_of_grids_are_right_for_twenty_at_once(server, folder):
    with netCDF4.Dataset(folder / "maps.nc") as local:
        local.set_auto_mask(False)
        expected = local["tas"][...]

    def read(seed):
        rng = np.random.default_rng(seed)
        begin, step = int(rng.integers(0, 20)), int(rng.integers(1, 5))
        wanted = f"tas.tas[{begin}:{step}:35][1:2:6][0:3:8]"
        status, _, body = server.get(f"/dap/maps.dods?{wanted}")
        assert status == 200, body
        data = body.partition(b"\nData:\n")[2][8:]
        part = expected[begin:36:step, 1:7:2, 0:9:3]
        np.testing.assert_array_equal(
            np.frombuffer(data, ">f4").reshape(part.shape), part
        )
        return part.size

    with ThreadPoolExecutor(20) as pool:
        assert sum(pool.map(read, range(60))) > 0
    with netCDF4.Dataset(f"{server.root}/dap/maps") as remote:
        remote.set_auto_mask(False)
        np.testing.assert_array_equal(remote["tas"][::7, 2, ::4], expected[::7, 2, ::4])
    mine = rhodolite.read(f"{server.root}/dap/maps")
    np.testing.assert_array_equal(mine["tas"].values(), expected)
    assert mine.time.calendar == "standard"


def test_values_as_text_and_descriptions(server):
    _, headers, body = server.get("/dap/maps.dds?tas[0:1][2][3:4],lat")
    assert headers["content-description"] == "dods-dds"
    assert b"Float32 tas[time = 2][lat = 1][lon = 2];" in body
    _, _, body = server.get("/dap/maps.ascii?lat[1:3]")
    assert body.decode().endswith("lat[3]\n-40.0, -20.0, 0.0\n\n")
    _, _, body = server.get("/dap/maps.ascii?tas.tas[0:1][2][3:4]")
    assert body.decode().splitlines()[-3].startswith("[0][0], ")


def test_a_value_has_the_same_digits_in_every_answer(server, folder):
    """Those of its single precision, whoever tells it."""
    with netCDF4.Dataset(folder / "maps.nc") as local:
        text = str(local["tas"][35, 5, 1])
    columns = server.get("/dap/maps.ascii?tas.tas[35][5][1]")[2].decode()
    assert columns.splitlines()[-2].endswith(f", {text}")
    place = {"I": "20", "J": "5", "REQUEST": "GetFeatureInfo", "QUERY_LAYERS": "tas"}
    assert f"value: {text}\n" in wms(server, **place)[2].decode()
    _, _, rows = edr(server, "position", coords="POINT(40 40)", f="CSV")
    assert rows.decode().splitlines()[-1].endswith(f",{text}")


@pytest.mark.parametrize(
    ("path", "status", "said"),
    [
        ("/dap/nope.dds", 404, "there is no dataset 'nope'"),
        ("/dap/maps.dods?nope", 404, "maps has no variable 'nope'"),
        ("/dap/maps.dods?tas[0:99999]", 400, "has 3 dimensions, and 1 are given"),
        ("/dap/maps.dods?tas[0:99][0][0]", 400, "lies beyond the 36 values"),
        ("/dap/maps.dods?tas[5:2][0][0]", 400, "lies beyond"),
        ("/dap/maps.dods?tas[0:0:5][0][0]", 400, "lies beyond"),
        ("/dap/maps.dods?tas[-1][0][0]", 400, "is not understood"),
        ("/dap/maps.dods?tas&tas>5", 400, "selections by value are for sequences"),
        ("/dap/maps.dods?" + "[" * 9000, 400, "too long"),
        ("/dap/maps.dods?tas[[[[", 400, "is not a variable with ranges"),
        ("/dap/maps.dap?dap4.ce=/nope", 404, "maps has no variable 'nope'"),
        ("/dap/maps.dap?dap4.ce=/tas[0]", 400, "has 3 dimensions, and 1 are given"),
        ("/dap/maps.dap?dap4.ce=/tas[0:99][][]", 400, "lies beyond the 36 values"),
        ("/dap/maps.dap?dap4.ce=/tas[x][][]", 400, "is not understood"),
        ("/dap/maps.dmr?dap4.ce=/lat[1];/lat[2]", 400, "with different ranges"),
        ("/dap/../../../etc/passwd", 404, ""),
        ("/dap/%2e%2e%2fmaps.dds", 404, ""),
        ("/zarr/maps/../../etc/passwd", 404, ""),
        ("/zarr/maps/tas/c/99/0/0", 404, "has no chunk 99/0/0"),
        ("/zarr/maps/tas/c/0", 404, "has no chunk"),
        ("/zarr/maps/nope/zarr.json", 404, "there is no key"),
        ("/nope", 404, "there is nothing here"),
    ],
)
def test_what_is_not_there_is_refused_and_the_server_lives(server, path, status, said):
    found, _, body = server.get(path)
    assert found == status
    assert said in body.decode()
    assert server.get("/datasets")[0] == 200


def test_connections_send_without_delay():
    """What is sent in two parts would wait 40 ms for word of the first, unless told not to."""

    async def connect(listener):
        accepted = asyncio.get_running_loop().create_future()

        def note(_, writer):
            accepted.set_result(writer.get_extra_info("socket"))

        async with await asyncio.start_server(note, sock=listener):
            _, writer = await asyncio.open_connection(*listener.getsockname())
            option = (await accepted).getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY)
            writer.close()
            return option

    with listen("127.0.0.1", 0) as listener:
        assert asyncio.run(connect(listener))


@pytest.mark.parametrize("format", ["NETCDF4", "NETCDF3_CLASSIC"])
@pytest.mark.long
def test_an_input_that_is_replaced_again_and_again_loses_no_request(tmp_path, format):
    """Every answer is all of one state, and never of one that was gone before it was asked."""

    def put(state):
        place = tmp_path / "new.nc"
        # Chunks, and where values lie, differ from state to state.
        attributes = {"about": "x" * (100 * state % 997)}
        values = np.full((3, 20, 20), state, "f4")
        write_plain(place, values, format=format, attributes=attributes)
        place.replace(tmp_path / "a.nc")

    put(0)
    running, states, done = Running(tmp_path, "serve", "a.nc"), [0], threading.Event()
    addresses = [
        "/dap/a.dods?tas.tas",
        "/zarr/a/tas/c/0/0/0",
        "/edr/collections/a/cube?bbox=0,0,360,90",
        "/dap/a.dap?dap4.ce=/tas&dap4.checksum=false",
    ]

    def ask(number):
        count = 0
        while not done.is_set() or count < 4:
            address = addresses[(number + count) % len(addresses)]
            earliest = states[-1]
            status, _, body = running.get(address)
            assert status == 200, body
            if "edr" in address:
                found = set(json.loads(body)["ranges"]["tas"]["values"])
            elif "zarr" in address:
                found = set(np.frombuffer(gzip.decompress(body), "<f4"))
            elif ".dods" in address:
                data = body.partition(b"\nData:\n")[2][8:]
                found = set(np.frombuffer(data, ">f4"))
            else:
                found = set(np.frombuffer(body[-4 - 4 * 1200 : -4], "<f4"))
            assert len(found) == 1
            assert earliest <= found.pop() <= states[-1] + 1
            count += 1
        return count

    try:
        with ThreadPoolExecutor(4) as pool:
            answers = [pool.submit(ask, number) for number in range(4)]
            for state in range(1, 40):
                put(state)
                states.append(state)
            done.set()
            assert sum(answer.result() for answer in answers) >= 16
    finally:
        done.set()
        running.stop()


@pytest.mark.slow
@pytest.mark.parametrize("count", [1, 2])
def test_processes_answer_as_one_and_inputs_are_opened_anew(tmp_path, count):
    values = np.full((2, 2, 2), 3, "f4")
    write_plain(tmp_path / "a.nc", values)
    running = Running(tmp_path, "serve", "a.nc", "--processes", count)
    address = "/dap/a.ascii?tas.tas[0][0][0]"
    try:
        with ThreadPoolExecutor(8) as pool:
            answers = list(pool.map(running.get, [address] * 40))
        assert {(status, body[-6:]) for status, _, body in answers} == {
            (200, b" 3.0\n\n")
        }
        # Whichever is asked knows what all have answered.
        counted = rb'requests_total\{kind="dap",status="200"\} (\d+)'
        while int(re.search(counted, running.get("/metrics")[2]).group(1)) < 40:
            time.sleep(0.1)
            running.get(address)
        write_plain(tmp_path / "b.nc", values + 1)
        (tmp_path / "b.nc").replace(tmp_path / "a.nc")
        running.process.send_signal(signal.SIGHUP)
        answers = [running.get(address)[2] for _ in range(2)]
        while any(b", 3\n" in body for body in answers):
            time.sleep(0.1)
            answers = [running.get(address)[2] for _ in range(8)]
        if count > 1 and Path("/proc").exists():
            children = _children_of(running.process.pid)
            assert len(children) == count
            os.kill(children[0], signal.SIGKILL)
            while len(_children_of(running.process.pid)) < count:
                # What the killed one was asked is lost, and nothing else.
                with contextlib.suppress(ConnectionError):
                    assert running.get("/health")[0] == 200
            assert running.get("/health")[0] == 200
    finally:
        running.stop(signal.SIGTERM)
    assert not [line for line in running.log if "rror" in line]


def _children_of(process):
    listed = Path(f"/proc/{process}/task/{process}/children").read_text()
    return [int(word) for word in listed.split()]


def test_a_zarr_client_reads_every_variable(server, folder, tmp_path):
    """The keys that zarr-python asks a store for, fetched into a folder as they are served."""
    for name in ("maps", "other"):
        target = tmp_path / name
        target.mkdir()
        _, _, body = server.get(f"/zarr/{name}/zarr.json")
        (target / "zarr.json").write_bytes(body)
        for variable, about in json.loads(body)["consolidated_metadata"][
            "metadata"
        ].items():
            (target / variable).mkdir()
            (target / variable / "zarr.json").write_text(json.dumps(about))
            shape, chunks = (
                about["shape"],
                about["chunk_grid"]["configuration"]["chunk_shape"],
            )
            counts = [-(-n // c) for n, c in zip(shape, chunks, strict=True)]
            for place in np.ndindex(*counts):
                key = "/".join(["c", *map(str, place)])
                status, _, chunk = server.get(f"/zarr/{name}/{variable}/{key}")
                assert status == 200
                (target / variable / key).parent.mkdir(parents=True, exist_ok=True)
                (target / variable / key).write_bytes(chunk)
                assert gzip.decompress(chunk)
        group = zarr.open_group(target, mode="r")
        with netCDF4.Dataset(
            folder / ("maps.nc" if name == "maps" else "types.nc")
        ) as local:
            local.set_auto_mask(False)
            for variable in local.variables:
                np.testing.assert_array_equal(
                    group[variable][...], local[variable][...]
                )
        mine = rhodolite.read(_suffixed(target))
        assert set(mine.variables) >= set(group.array_keys())


def _suffixed(path):
    path.rename(path.with_suffix(".zarr"))
    return path.with_suffix(".zarr")


def test_answers_are_for_reading_caching_and_no_others_page(server):
    status, headers, page = server.get("/")
    assert status == 200
    assert b"A &#34;title&#34; &amp; &lt;more&gt;" in page
    assert "default-src 'self'" in headers["content-security-policy"]
    assert headers["x-content-type-options"] == "nosniff"
    assert headers["access-control-allow-origin"] == "*"
    _, headers, _ = server.get("/dap/maps.dds")
    again, _, body = server.get("/dap/maps.dds", **{"If-None-Match": headers["etag"]})
    assert (again, body) == (304, b"")
    again, _, _ = server.get(
        "/dap/maps.dds", **{"If-Modified-Since": headers["last-modified"]}
    )
    assert again == 304
    for method in ("POST", "PUT", "DELETE", "PATCH"):
        request = urllib.request.Request(
            server.root + "/dap/maps.dds", b"x", method=method
        )
        with pytest.raises(urllib.error.HTTPError, match="405"):
            urllib.request.urlopen(request)
    head = urllib.request.Request(server.root + "/dap/maps.dds", method="HEAD")
    with urllib.request.urlopen(head) as answer:
        assert answer.read() == b""


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_it_ends_cleanly_and_serves_what_a_chain_computes(folder, how):
    words = ("anomaly", "maps.nc", "--min-years", "1", "then", "trend", "then", "serve")
    running = Running(folder, *words, "--prepare")
    assert (
        run_here(*words[:-2], "-o", "trend.nc", "--overwrite", folder=folder).code == 0
    )
    with (
        netCDF4.Dataset(f"{running.root}/dap/maps") as remote,
        netCDF4.Dataset(folder / "trend.nc") as local,
    ):
        np.testing.assert_allclose(
            np.asarray(remote["tas_trend"][...], "f4"),
            local["tas_trend"][...],
            rtol=1e-6,
        )
    assert running.stop(how) == 0
    log = "".join(running.log)
    assert "GET /dap/maps.dds 200 " in log
    assert "ended\n" in log
    (folder / "trend.nc").unlink()


def test_a_client_that_hangs_up_and_requests_beyond_bounds(folder):
    limits = ("--limit", "cells=100", "--limit", "at-once=1", "--limit", "seconds=5")
    running = Running(folder, "serve", "maps.nc", *limits)
    host, port = running.root.removeprefix("http://").split(":")
    for _ in range(3):
        with socket.create_connection((host, int(port))) as caller:
            caller.sendall(b"GET /dap/maps.dods HTTP/1.1\r\nHost: x\r\n\r\n")
    status, _, body = running.get("/zarr/maps/tas/c/0/0/0")
    assert (status, b"180 values are asked for, and an answer holds 100" in body) == (
        413,
        True,
    )
    assert running.get("/dap/maps.dods?lat")[0] == 200
    assert running.stop() == 0


def test_files_that_have_grown_are_read_anew(folder, tmp_path):
    target = tmp_path / "grows.nc"
    target.write_bytes((folder / "maps.nc").read_bytes())
    running = Running(tmp_path, "serve", "grows.nc", "--watch")
    assert b"time = 36" in running.get("/dap/grows.dds")[2]
    write_plain(tmp_path / "new.nc", np.ones((5, 2, 2)))
    (tmp_path / "new.nc").replace(target)
    until = time.monotonic() + 60
    while b"time = 5]" not in running.get("/dap/grows.dds")[2]:
        assert time.monotonic() < until
        time.sleep(0.5)
    assert running.stop() == 0


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ((), "serve: no input"),
        (("maps.nc", "--port", "x"), "--port: 'x' is not a port"),
        (("maps.nc", "--processes", "0"), "'0' is no number of processes"),
        (("maps.nc", "--processes", "two"), "'two' is no number of processes"),
        (("maps.nc", "maps.nc"), "two inputs would be called 'maps'"),
        (("maps.nc", "--limit", "cell=3"), "there is no 'cell'. Did you mean cells"),
        (("maps.nc", "--limit", "cells=0"), "write a whole number from 1 up"),
        (("nope.nc",), "nope.nc: there is no such file"),
    ],
)
def test_what_is_wrong_is_said_before_it_listens(folder, words, said):
    answer = run_here("serve", *words, folder=folder)
    assert answer.code in (2, 3)
    assert said in answer.err


def asked(**words):
    return urllib.parse.urlencode(
        {key.replace("_", "-"): value for key, value in words.items()}
    )


def wms(server, name="maps", **words):
    usual = {
        "SERVICE": "WMS",
        "VERSION": "1.3.0",
        "REQUEST": "GetMap",
        "LAYERS": "tas",
        "CRS": "CRS:84",
        "BBOX": "-180,-90,180,90",
        "WIDTH": "36",
        "HEIGHT": "18",
        "FORMAT": "image/png",
        "TRANSPARENT": "TRUE",
    }
    return server.get(f"/wms/{name}?{urllib.parse.urlencode({**usual, **words})}")


def test_maps_show_the_cell_beneath_each_pixel(server, folder):
    """Colours against the classes of the values that NumPy finds, in three reference systems."""
    with netCDF4.Dataset(folder / "maps.nc") as local:
        local.set_auto_mask(False)
        field = local["tas"][3]
    pictures = {}
    for crs, box in (
        ("CRS:84", "-180,-90,180,90"),
        ("EPSG:4326", "-90,-180,90,180"),
        ("EPSG:3857", "-20037508,-20037508,20037508,20037508"),
        ("EPSG:900913", "-20037508,-20037508,20037508,20037508"),
    ):
        status, headers, body = wms(server, CRS=crs, BBOX=box, TIME="2000-04-16")
        assert (status, headers["content-type"]) == (200, "image/png")
        picture = Image.open(io.BytesIO(body)).convert("RGBA")
        pictures[crs] = np.asarray(picture)
        assert picture.size == (36, 18)
    np.testing.assert_array_equal(pictures["CRS:84"], pictures["EPSG:4326"])
    np.testing.assert_array_equal(pictures["EPSG:3857"], pictures["EPSG:900913"])
    _, _, old = wms(server, VERSION="1.1.1", SRS="EPSG:4326", TIME="2000-04-16")
    np.testing.assert_array_equal(
        np.asarray(Image.open(io.BytesIO(old)).convert("RGBA")), pictures["CRS:84"]
    )
    longitudes = -180 + 10 * (np.arange(36) + 0.5)
    columns = np.rint((longitudes % 360) / 40).astype(int) % 9
    world = 2 * 20037508
    for crs, latitudes in (
        ("CRS:84", 90 - 10 * (np.arange(18) + 0.5)),
        (
            "EPSG:3857",
            np.degrees(
                np.arctan(
                    np.sinh((0.5 - (np.arange(18) + 0.5) / 18) * world / 6378137.0)
                )
            ),
        ),
    ):
        rows = np.rint((latitudes + 60) / 20).astype(int)
        inside = np.abs(latitudes) < 70
        values = np.where(
            inside[:, None], field[np.ix_(rows.clip(0, 6), columns)], np.nan
        )
        seen = pictures[crs]
        np.testing.assert_array_equal(seen[..., 3] > 0, np.isfinite(values))
        # Equal colours are neighbouring values: the classes cut the order of values into runs.
        flat = [tuple(one) for one in seen[np.isfinite(values)]]
        order = np.argsort(values[np.isfinite(values)], kind="stable")
        runs = [flat[order[0]]] + [
            flat[b] for a, b in pairwise(order) if flat[a] != flat[b]
        ]
        assert len(runs) == len(set(runs)) > 5


def test_capabilities_are_understood_by_another_client(server):
    client = pytest.importorskip("owslib.wms")
    for version in ("1.3.0", "1.1.1"):
        service = client.WebMapService(f"{server.root}/wms/maps", version=version)
        assert list(service.contents) == ["tas"]
        layer = service["tas"]
        assert layer.boundingBoxWGS84 == (-180.0, -70.0, 180.0, 70.0)
        assert len(layer.timepositions) == 36
        assert "cells" in layer.styles
        assert {"EPSG:4326", "EPSG:3857"} <= set(layer.crsOptions)
        picture = service.getmap(
            layers=["tas"],
            styles=["smooth/viridis"],
            srs="EPSG:4326",
            bbox=(0, 0, 90, 60),
            size=(30, 20),
            format="image/png",
            time=layer.timepositions[5],
        )
        assert Image.open(io.BytesIO(picture.read())).size == (30, 20)


def test_a_pixel_tells_its_value_and_a_legend_its_units(server, folder):
    words = {"REQUEST": "GetFeatureInfo", "QUERY_LAYERS": "tas", "TIME": "2001-02"}
    _, _, body = wms(server, I="20", J="5", INFO_FORMAT="application/json", **words)
    found = json.loads(body)
    with netCDF4.Dataset(folder / "maps.nc") as local:
        step = int(np.argmin(np.abs(local["time"][:] - (366 + 31 + 14))))
        assert found["value"] == pytest.approx(float(local["tas"][step, 5, 1]))
    assert (found["latitude"], found["longitude"], found["units"]) == (40.0, 40.0, "K")
    assert found["time"].startswith("2001-02-")
    assert b"value: " in wms(server, I="20", J="5", **words)[2]
    status, _, legend = wms(server, REQUEST="GetLegendGraphic", LAYER="tas")
    assert (status, Image.open(io.BytesIO(legend)).size) == (200, (130, 320))


@pytest.mark.parametrize(
    ("words", "code"),
    [
        ({"LAYERS": "nope"}, "LayerNotDefined"),
        ({"CRS": "EPSG:9999"}, "InvalidCRS"),
        ({"WIDTH": "1000000000"}, "InvalidParameterValue"),
        ({"WIDTH": "-1"}, "InvalidParameterValue"),
        ({"BBOX": "1e308,-1e308,nan,4"}, "InvalidParameterValue"),
        ({"BBOX": "10,10,0,0"}, "InvalidParameterValue"),
        ({"STYLES": "<b>"}, "StyleNotDefined"),
        ({"FORMAT": "image/tiff"}, "InvalidFormat"),
        ({"TIME": "yesterday"}, "InvalidDimensionValue"),
        ({"TIME": "1999-12-31"}, "InvalidDimensionValue"),
        ({"TIME": "2003-02"}, "InvalidDimensionValue"),
        ({"REQUEST": "Nope"}, "OperationNotSupported"),
        ({"LIMITS": "5,1"}, "InvalidParameterValue"),
        ({"BGCOLOR": "red"}, "InvalidParameterValue"),
    ],
)
def test_what_a_map_cannot_be_is_said_in_xml(server, words, code):
    words = {"TRANSPARENT": "FALSE", **words}
    status, headers, body = wms(server, **words)
    assert status in (400, 404)
    assert headers["content-type"].startswith("text/xml")
    told = ElementTree.fromstring(body)
    assert told[0].attrib["code"] == code
    assert told[0].text


def _pixels(body):
    with Image.open(io.BytesIO(body)) as image:
        return image.format, np.asarray(image.convert("RGBA"))


def test_layers_lie_above_each_other_and_pictures_have_several_formats(tmp_path, rng):
    """The upper layer hides the lower where it has values, and nowhere else."""
    values = rng.normal(280, 5, (2, 6, 8))
    write_plain(
        tmp_path / "a.nc",
        values,
        lats=np.arange(-50.0, 51, 20),
        lons=np.arange(8) * 45.0,
    )
    with netCDF4.Dataset(tmp_path / "a.nc", "a") as file:
        file.setncatts(
            {"summary": "Made <up>", "keywords": "heat, made up", "institution": "None"}
        )
        upper = file.createVariable(
            "upper", "f4", ("time", "lat", "lon"), fill_value=np.nan
        )
        upper.units = "K"
        upper[:] = np.where(np.arange(8) < 4, values + 10, np.nan)
    running = Running(tmp_path, "serve", "a.nc")
    try:
        window = {"TRANSPARENT": "TRUE", "TIME": "2000-01-01T00:00:00Z"}
        alone = {
            name: _pixels(wms(running, "a", LAYERS=name, **window)[2])[1]
            for name in ("tas", "upper")
        }
        both = _pixels(wms(running, "a", LAYERS="tas,upper", STYLES=",", **window)[2])[
            1
        ]
        hidden = alone["upper"][..., 3:] > 0
        assert 0 < hidden.mean() < 1
        np.testing.assert_array_equal(
            both, np.where(hidden, alone["upper"], alone["tas"])
        )
        webp = wms(running, "a", LAYERS="tas", FORMAT="image/webp", **window)
        assert webp[1]["content-type"] == "image/webp"
        assert _pixels(webp[2])[0] == "WEBP"
        np.testing.assert_array_equal(_pixels(webp[2])[1], alone["tas"])
        kind, jpeg = _pixels(
            wms(running, "a", LAYERS="upper", FORMAT="image/jpeg", **window)[2]
        )
        assert kind == "JPEG" and (jpeg[..., 3] == 255).all()
        assert np.abs(jpeg[..., :3].astype(int) - 255)[~hidden[..., 0]].mean() < 3
        said = {
            time: wms(running, "a", LAYERS="tas", TIME=time)[1]["warning"]
            for time in ("2000-01-01T00:00:00Z", "2000-01-01T05:00:00Z", "")
        }
        assert list(said.values()) == [
            None,
            "99 Nearest value used: time=2000-01-01T00:00:00Z ISO8601",
            "99 Default value used: time=2000-01-02T00:00:00Z ISO8601",
        ]
        about = wms(running, "a", REQUEST="GetCapabilities")[2].decode()
        told = ElementTree.fromstring(about).find("{http://www.opengis.net/wms}Service")
        texts = [element.text for element in told.iter()]
        assert {"Made <up>", "heat", "made up", "None", "10"} <= set(texts)
        assert wms(running, "a", LAYERS="tas", FORMAT="image/tiff")[0] == 400
        assert wms(running, "a", LAYERS="tas,none")[0] == 404
        assert wms(running, "a", LAYERS=",".join(["tas"] * 11))[0] == 400
    finally:
        running.stop()


def test_maps_of_poles_and_zones_show_the_cell_below_each_pixel(server, folder):
    pyproj = pytest.importorskip("pyproj")
    with netCDF4.Dataset(folder / "maps.nc") as local:
        field = np.ma.filled(local["tas"][0], np.nan)
    for crs, middle in (
        ("EPSG:3995", (0, 0)),
        ("EPSG:3031", (1e6, -2e6)),
        ("EPSG:32633", (5e5, 5e6)),
        ("EPSG:32719", (5e5, 7e6)),
    ):
        x, y = middle
        words = {"CRS": crs, "BBOX": f"{x - 3e6},{y - 3e6},{x + 3e6},{y + 3e6}"}
        words |= {"WIDTH": 40, "HEIGHT": 40, "TIME": "2000-01"}
        picture = np.asarray(
            Image.open(io.BytesIO(wms(server, **words)[2])).convert("RGBA")
        )
        turn = pyproj.Transformer.from_crs(crs, "OGC:CRS84", always_xy=True)
        shades = {}
        for i, j in np.ndindex(40, 40):
            lon, lat = turn.transform(x + (j - 19.5) * 1.5e5, y + (19.5 - i) * 1.5e5)
            if not np.isfinite(lon) or abs(lat) >= 70:
                continue
            row, column = round((lat + 60) / 20), round(lon % 360 / 40) % 9
            shades.setdefault(float(field[row, column]), set()).add(
                tuple(picture[i, j])
            )
        # A value has one colour, and larger values have others.
        assert all(len(found) == 1 for found in shades.values())
        assert len(shades) > 5
    status, _, body = wms(server, CRS="EPSG:4979")
    assert (status, b"InvalidCRS" in body) == (400, True)


def test_several_times_make_a_film_and_are_refused_as_one_picture(server):
    for asked_for, frames in (
        ("2000-01/2000-04", 4),
        ("2000-01/2000-04/P1M", 4),
        ("2000-02,2001-05", 2),
        ("2000-02", 1),
    ):
        _, headers, body = wms(server, TIME=asked_for, FORMAT="image/gif")
        film = Image.open(io.BytesIO(body))
        assert (headers["content-type"], film.n_frames) == ("image/gif", frames)
    first = Image.open(io.BytesIO(wms(server, TIME="2000-02")[2])).convert("RGB")
    film = Image.open(
        io.BytesIO(wms(server, TIME="2000-02", FORMAT="image/gif")[2])
    ).convert("RGB")
    np.testing.assert_array_equal(np.asarray(film), np.asarray(first))
    for format in ("image/png", "image/jpeg"):
        status, _, body = wms(server, TIME="2000-01/2000-04", FORMAT=format)
        assert (status, b"InvalidDimensionValue" in body) == (400, True)


def test_units_and_members_are_those_that_are_asked_for(tmp_path):
    """As `convert` and `subset` make them, in maps, series, tables and files."""
    members = np.arange(3 * 2 * 4 * 6, dtype="f8").reshape(3, 2, 4, 6) / 7 + 270
    axes = {
        "member": [1, 2, 3],
        "time": np.array(["2000-01-01", "2000-01-02"], "M8[D]"),
        "lat": [-30.0, -10, 10, 30],
        "lon": np.arange(0.0, 360, 60),
    }
    data = rhodolite.from_arrays(
        {"tas": members}, axes, units={"tas": "K", "member": "1"}
    )
    data.write(tmp_path / "a.nc")
    running = Running(tmp_path, "serve", "a.nc")
    try:
        place = "/edr/collections/a/position?coords=POINT(60%2010)"
        status, _, body = running.get(place)
        assert (status, b"There are 1, 2, 3" in body) == (400, True)
        assert running.get(f"{place}&member=4")[0] == 404
        for units, shift in (("K", 0.0), ("degC", 273.15)):
            words = f"&member=3&units={units}"
            found = json.loads(running.get(place + words)[2])
            expected = members[2, :, 2, 1] - shift
            np.testing.assert_allclose(
                found["ranges"]["tas"]["values"], expected, rtol=1e-12
            )
            assert found["parameters"]["tas"]["unit"]["symbol"] == units
            (tmp_path / "part.nc").write_bytes(
                running.get(f"{place}{words}&f=NetCDF")[2]
            )
            part = rhodolite.read(tmp_path / "part.nc")
            np.testing.assert_allclose(
                part["tas"].values().ravel(), expected, rtol=1e-12
            )
            assert part["tas"].units == units
            answer = wms(
                running,
                "a",
                REQUEST="GetFeatureInfo",
                QUERY_LAYERS="tas",
                INFO_FORMAT="application/json",
                DIM_MEMBER=3,
                UNITS=units,
                I=20,
                J=7,
                TIME="2000-01-01",
            )[2]
            value = json.loads(answer)
            row = [-30.0, -10, 10, 30].index(value["latitude"])
            column = round(value["longitude"] / 60) % 6
            assert value["value"] == pytest.approx(members[2, 0, row, column] - shift)
        assert running.get(f"{place}&member=1&units=m")[0] == 400
        about = running.get("/edr/collections/a")[2]
        extent = CollectionModel.model_validate_json(about).extent
        assert extent.custom[0].values == ["1", "2", "3"]
        capabilities = wms(running, "a", REQUEST="GetCapabilities")[2]
        assert b'<Dimension name="member" units="" default="1">1,2,3<' in capabilities
        status, _, body = wms(running, "a", DIM_MEMBER=9)
        assert (status, b"InvalidDimensionValue" in body) == (404, True)
    finally:
        running.stop()


def edr(server, query, name="maps", **words):
    status, headers, body = server.get(
        f"/edr/collections/{name}/{query}?{asked(**words)}"
    )
    return status, headers["content-type"], body


def test_series_and_areas_are_those_of_the_file(server, folder):
    with netCDF4.Dataset(folder / "maps.nc") as local:
        local.set_auto_mask(False)
        values = local["tas"][...]
    status, kind, body = edr(
        server, "position", coords="POINT(-80 41)", parameter_name="tas"
    )
    assert (status, kind) == (200, "application/vnd.cov+json")
    found = json.loads(body)
    assert found["domain"]["domainType"] == "PointSeries"
    assert found["domain"]["axes"]["x"]["values"] == [280.0]
    np.testing.assert_allclose(
        found["ranges"]["tas"]["values"], values[:, 5, 7], rtol=1e-6
    )
    period = "2001-01-01/2001-12-31"
    _, _, body = edr(server, "cube", bbox="-90,-30,90,30", datetime=period, over="area")
    months = slice(12, 24)
    weights = np.cos(np.radians([-20, 0, 20]))
    columns = [0, 1, 2, 7, 8]
    expected = np.average(
        values[months, 2:5][:, :, columns].mean(axis=2), axis=1, weights=weights
    )
    found = json.loads(body)
    np.testing.assert_allclose(found["ranges"]["tas"]["values"], expected, rtol=1e-6)
    assert found["domain"]["axes"]["x"]["values"] == [360.0]
    # A box whose east lies west of its west goes over the dateline.
    grid = json.loads(
        edr(server, "cube", bbox="100,-30,-100,30", datetime="2000-01")[2]
    )
    assert grid["domain"]["axes"]["x"]["values"] == [120.0, 160.0, 200.0, 240.0]
    polygon = "POLYGON((-90 -30,90 -30,0 70,-90 -30))"
    _, _, body = edr(server, "area", coords=polygon, datetime="2000-04", f="csv")
    rows = body.decode().splitlines()
    assert rows[0] == "parameter,units,time,level,lat,lon,value"
    places = {tuple(map(float, row.split(",")[4:6])) for row in rows[1:]}
    assert places == {(-20.0, x) for x in (280, 320, 0, 40, 80)} | {
        (0.0, x) for x in (320, 0, 40)
    } | {(20.0, x) for x in (320, 0, 40)} | {(40.0, 0.0), (60.0, 0.0)}
    grid = json.loads(edr(server, "cube", bbox="0,0,50,50", datetime="2000-01")[2])
    assert grid["ranges"]["tas"]["shape"] == [1, 3, 2]
    for path in ("", "/conformance", "/collections", "/collections/maps"):
        assert isinstance(json.loads(server.get("/edr" + path)[2]), dict)
    about = json.loads(server.get("/edr/collections/maps")[2])
    assert set(about["data_queries"]) == {"position", "area", "cube"}
    assert about["parameter_names"]["tas"]["unit"]["symbol"] == "K"


def test_boxes_have_heights_and_areas_several_parts(server):
    values = np.arange(48.0).reshape(4, 3, 4)
    box = edr(server, "cube", "levels", bbox="5,5,400,25,15,900", crs="OGC:CRS84")
    cube = json.loads(box[2])
    assert cube["domain"]["axes"]["z"]["values"] == [850.0, 500.0]
    for level, status in (("high", 400), ("7", 404)):
        refused = edr(server, "cube", "levels", bbox="5,5,25,15", z=level)
        assert refused[0] == status, refused
    np.testing.assert_array_equal(
        cube["ranges"]["ta"]["values"], values[1:3, 1, 1:3].ravel()
    )
    flat = json.loads(edr(server, "cube", "levels", bbox="5,5,25,15", z="400/900")[2])
    assert flat["ranges"]["ta"]["values"] == cube["ranges"]["ta"]["values"]
    parts = (
        "MULTIPOLYGON(((-1 -1,1 -1,1 1,-1 1,-1 -1)),((29 19,31 19,31 21,29 21,29 19)))"
    )
    _, _, body = edr(server, "area", "levels", coords=parts, z="1000", f="csv")
    rows = [row.split(",") for row in body.decode().splitlines()[1:]]
    assert [float(row[-1]) for row in rows if row[-1]] == [0.0, 11.0]


def test_latitude_comes_first_where_its_system_is_asked_for(server):
    pairs = [
        ({"coords": "POINT(80 41)"}, {"coords": "POINT(41 80)"}, "position"),
        ({"bbox": "10,-30,100,50"}, {"bbox": "-30,10,50,100"}, "cube"),
        ({"bbox": "10,-30,0,100,50,9"}, {"bbox": "-30,10,0,50,100,9"}, "cube"),
        (
            {"coords": "POLYGON((0 -30,90.3 -30,0 70,0 -30))"},
            {"coords": "POLYGON((-30 0,-30 90.3,70 0,-30 0))"},
            "area",
        ),
    ]
    system = "http://www.opengis.net/def/crs/EPSG/0/4326"
    for usual, turned, query in pairs:
        first = json.loads(edr(server, query, **usual)[2])
        for crs in ("EPSG:4326", system):
            second = json.loads(edr(server, query, crs=crs, **turned)[2])
            referencing = second["domain"].pop("referencing")
            assert referencing[0]["coordinates"] == ["y", "x"]
            assert referencing[0]["system"]["id"] == system
            first["domain"].pop("referencing", None)
            assert second == first
    status, _, body = edr(server, "position", coords="POINT(100 5)", crs="EPSG:4326")
    assert (status, b"latitude comes first" in body) == (400, True)
    assert edr(server, "position", coords="POINT(1 5)", crs="EPSG:32633")[0] == 400


def test_models_of_others_take_the_answers_in_every_calendar(tmp_path):
    """Those of the standards' own community, which know dates of the usual calendar only."""
    names = {
        "standard": "Gregorian",
        "proleptic_gregorian": "Gregorian",
        "noleap": "noleap",
        "julian": "julian",
        "360_day": "360_day",
    }
    values = 101325 + np.random.default_rng(4).random((3, 2, 2))
    for calendar in names:
        axes = {
            "time": np.arange(3.0),
            "lat": np.array([10.1, 20.3], "f4"),
            "lon": np.array([5.0, 15.0]),
        }
        units = {"tas": "Pa", "time": "days since 2000-01-01"}
        data = rhodolite.from_arrays(
            {"tas": values}, axes, units=units, calendar=calendar
        )
        data.write(tmp_path / f"{calendar}.nc")
    running = Running(tmp_path, "serve", *(f"{name}.nc" for name in names))
    try:
        for calendar, name in names.items():
            address = f"/edr/collections/{calendar}"
            CollectionModel.model_validate_json(running.get(address)[2])
            for query in ("position?coords=POINT(5%2010)", "cube?bbox=0,0,30,30"):
                body = running.get(f"{address}/{query}")[2]
                coverage = Coverage.model_validate_json(body)
                time = coverage.domain.referencing[1].system
                assert str(time.calendar).rpartition("/")[2] == name
                assert coverage.domain.axes.y.values[0] == 10.1
            # All digits, as JSON and as a table.
            assert json.loads(body)["ranges"]["tas"]["values"] == list(values.flat)
            table = running.get(f"{address}/{query}&f=CSV")[2].decode().splitlines()
            assert float(table[1].split(",")[-1]) == values[0, 0, 0]
    finally:
        running.stop()


@pytest.mark.parametrize(
    "kind",
    ["half", *(pytest.param(k, marks=pytest.mark.long) for k in ("fine", "turned"))],
)
def test_queries_choose_and_weigh_as_commands_do(tmp_path, rng, demo, kind):
    """Rounded coordinates, the seam, parts of cells, levels, places beside each other."""
    if kind == "turned":
        (tmp_path / "a.nc").symlink_to(demo / "rotated_monthly.nc")
        box, place, name, z = (5.0, 58.0, 15.25, 63.0), (9.0, 61.0), "ta", {"z": "500"}
    else:
        step, first = (0.1, 49.9) if kind == "fine" else (2.5, -88.75)
        lats = (first + step * np.arange(72)).astype("f4")
        lons = (step * np.arange(144)).astype("f4")
        values = rng.normal(280, 5, (3, 72, 144))
        values[:, 10:20, 3] = np.nan
        write_plain(tmp_path / "a.nc", values, lats=lats, lons=lons)
        # Ends that are no numbers of the file's precision; the second box lies across the seam.
        box = (0.3, 50.3, 5.7, 52.1) if kind == "fine" else (-11.0, 1.25, 20.0, 43.75)
        place, name, z = (box[2], box[1]), "tas", {}
    west, south, east, north = box
    polygon = f"POLYGON(({west} {south},{east} {south},{east} {north},{west} {south}))"
    outline = {
        "type": "Polygon",
        "coordinates": [[[west, south], [east, south], [east, north], [west, south]]],
    }
    (tmp_path / "area.geojson").write_text(json.dumps(outline))
    data = rhodolite.read(tmp_path / "a.nc").subset(variable=name)
    if z:
        data = data.subset(level="500m")
    running = Running(tmp_path, "serve", "a.nc")
    try:

        def ask(query, **words):
            status, _, body = edr(
                running, query, "a", parameter_name=name, **z, **words
            )
            assert status == 200, body
            return body

        spelt = {"lat": (south, north), "lon": f"{west}..{east}"}
        boxed = {"bbox": f"{west},{south},{east},{north}"}
        found = json.loads(ask("cube", **boxed, over="area"))["ranges"][name]["values"]
        mean = data.subset(**spelt).summarise()[name].values().reshape(-1)
        np.testing.assert_allclose(found, mean, rtol=2e-7)
        if kind != "turned":
            columns = json.loads(ask("cube", **boxed))["domain"]["axes"]["x"]["values"]
            assert west <= columns[0] and (np.diff(columns) > 0).all()
            assert columns[-1] <= east
        rows = ask("cube", **boxed, f="csv").decode().splitlines()[1:]
        chosen = data.subset(**spelt)[name].values()
        count = int(np.isfinite(chosen).sum())
        assert sum(not row.endswith(",") for row in rows) == count
        found = json.loads(ask("area", coords=polygon, over="area"))["ranges"][name][
            "values"
        ]
        mean = (
            data.summarise(region=tmp_path / "area.geojson")[name].values().reshape(-1)
        )
        np.testing.assert_allclose(found, mean, rtol=2e-7)
        found = json.loads(ask("position", coords=f"POINT({place[0]} {place[1]})"))
        here = data.subset(at=place[::-1])[name].values().reshape(-1)
        np.testing.assert_allclose(found["ranges"][name]["values"], here, rtol=1e-7)
        both = ask(
            "position", coords=f"MULTIPOINT(({place[0]} {place[1]}),({west} {north}))"
        )
        parts = json.loads(both)["coverages"]
        assert parts[0]["ranges"] == found["ranges"]
        there = data.subset(at=(north, west))[name].values().reshape(-1)
        np.testing.assert_allclose(parts[1]["ranges"][name]["values"], there, rtol=1e-7)
        status, _, body = edr(
            running, "position", "a", coords=f"POINT({west} {south})", z="17"
        )
        assert (status, b"no such level" in body) == (
            (404, True) if z else (200, False)
        )
    finally:
        running.stop()


def test_times_have_offsets(server):
    """Of days that begin at midnight in universal time."""
    box = {"bbox": "0,0,50,50"}
    moment = "2000-01-16T01:30:00.5+01:30"
    one, other = (
        json.loads(edr(server, "cube", **box, datetime=time)[2])["domain"]["axes"]["t"][
            "values"
        ]
        for time in (moment, "2000-01-16T00:00:00Z")
    )
    assert one == other and len(one) == 1


@pytest.mark.parametrize(
    ("query", "words", "status", "said"),
    [
        ("position", {"coords": "POINT(10 95)"}, 400, "beyond the world"),
        ("position", {"coords": "POINT(10"}, 400, "coords"),
        ("position", {"coords": "LINESTRING(0 0,1 1)"}, 400, "coords is a POINT"),
        ("position", {}, 400, "well-known text"),
        ("area", {"coords": "POLYGON((" + "0 0," * 9000 + "0 0))"}, 400, "at most"),
        (
            "area",
            {"coords": "POLYGON((0 0,10 10,10 0,0 10,0 0))"},
            400,
            "crosses itself",
        ),
        ("cube", {"bbox": "1,2,3"}, 400, "bbox is west"),
        ("cube", {"bbox": "nan,0,1,1"}, 400, "bbox is west"),
        ("cube", {"bbox": "1,1,2,2"}, 404, "no cell has its centre"),
        ("cube", {"bbox": "0,0,90,60", "datetime": "x"}, 400, "is not a time"),
        (
            "cube",
            {"bbox": "0,0,90,60", "datetime": "2001-02-31"},
            400,
            "is not a day of the data's calendar",
        ),
        (
            "cube",
            {"bbox": "0,0,90,60", "datetime": "1900/1901"},
            404,
            "there is no time",
        ),
        (
            "cube",
            {"bbox": "0,0,90,60", "parameter-name": "zz"},
            400,
            "there is no 'zz'",
        ),
        ("cube", {"bbox": "0,0,90,60", "f": "exe"}, 400, "CoverageJSON, CSV, NetCDF"),
        ("radius", {}, 404, "there is no query"),
    ],
)
def test_queries_that_make_no_sense_are_problems(server, query, words, status, said):
    found, kind, body = edr(server, query, **words)
    assert (found, kind) == (status, "application/problem+json")
    told = json.loads(body)
    assert told["status"] == status
    assert said in told["detail"]


def _link_of(page, text):
    return re.search(rf'href="([^"]*)"[^>]*>{text}', page).group(1)


def test_parts_are_taken_home_as_files(tmp_path, demo):
    """The same as `subset` gives, with units, cells and a record that names no place on the
    server."""
    (tmp_path / "rain.nc").symlink_to(demo / "garnet_monthly_1981-2020.nc")
    running = Running(tmp_path, "serve", "rain.nc")
    try:
        box = {"bbox": "-20,30,40,70", "datetime": "2001/2002", "parameter_name": "pr"}
        status, kind, body = edr(running, "cube", "rain", **box, f="NetCDF")
        assert (status, kind) == (200, "application/x-netcdf")
        path = "/edr/collections/rain/cube?" + asked(**box)
        assert running.get(path, Accept="application/x-netcdf")[2][:4] == body[:4]
        assert running.get(path, Accept="text/csv")[2].startswith(b"parameter,units,")
        (tmp_path / "part.nc").write_bytes(body)
        data = rhodolite.read(tmp_path / "rain.nc").subset(
            variable="pr", lon="-20..40", lat="30..70", time="2001..2002"
        )
        got = rhodolite.read(tmp_path / "part.nc")
        np.testing.assert_allclose(
            got["pr"], data["pr"].values(), rtol=1e-7
        )  # in single precision
        np.testing.assert_array_equal(got["lon"].values(), data["lon"].values())
        assert str(tmp_path) not in got.attributes["history"]
        assert "rain --variable pr" in got.attributes["history"]
        mean = {**box, "over": "area", "f": "NetCDF"}
        (tmp_path / "mean.nc").write_bytes(edr(running, "cube", "rain", **mean)[2])
        got = rhodolite.read(tmp_path / "mean.nc")["pr"]
        np.testing.assert_allclose(got, data.summarise()["pr"], rtol=1e-6)
        status, _, body = edr(
            running, "cube", "rain", bbox="-180,-90,180,90", f="NetCDF"
        )
        assert (status, b"values are asked for" in body) == (413, True)
        for words, code in (
            ({"coords": "POINT(10 95)"}, 400),
            ({"coords": "POINT(a)"}, 400),
        ):
            assert edr(running, "position", "rain", **words, f="NetCDF")[0] == code
    finally:
        running.stop()


def test_below_a_prefix_behind_a_proxy(folder):
    running = Running(folder, "serve", "maps.nc", "--base-path", "/data/")
    try:
        page = running.get("/view/maps")[2].decode()
        assert 'data-root="/data"' in page and "/data/static/view.js?v=" in page
        assert (
            _link_of(running.get("/")[2].decode(), "map and series")
            == "/data/view/maps"
        )
        assert (
            running.get("/data/edr")[0] == 200
        )  # of a proxy that leaves the prefix there
        said = json.loads(running.get("/edr", **{"X-Forwarded-Prefix": "/more"})[2])
        assert {link["href"].partition("/more")[1] for link in said["links"]} == {
            "/more"
        }
        odd = json.loads(
            running.get("/edr", **{"X-Forwarded-Prefix": "//evil.example/<b>"})[2]
        )
        assert all("evil" not in link["href"] for link in odd["links"])
        capabilities = running.get("/wms/maps?SERVICE=WMS&REQUEST=GetCapabilities")[
            2
        ].decode()
        assert f"{running.root}/data/wms/maps" in capabilities
    finally:
        running.stop()
    answer = run_here("serve", "maps.nc", "--base-path", "data", folder=folder)
    assert (answer.code, "begins with no slash; write /data" in answer.err) == (2, True)


def test_browsers_monitors_and_programs_find_what_they_need(server):
    request = urllib.request.Request(server.root + "/edr/collections", method="OPTIONS")
    with urllib.request.urlopen(request, timeout=60) as answer:
        assert (answer.status, answer.headers["access-control-allow-methods"]) == (
            204,
            "GET, HEAD",
        )
        assert answer.headers["access-control-allow-origin"] == "*"
    head = urllib.request.Request(server.root + "/edr/collections/maps", method="HEAD")
    with urllib.request.urlopen(head, timeout=60) as answer:
        assert answer.status == 200 and not answer.read()
    plain = server.get("/edr/collections")
    packed = server.get("/edr/collections", **{"Accept-Encoding": "gzip"})
    assert (
        packed[1]["content-encoding"] == "gzip" and len(packed[2]) < len(plain[2]) / 2
    )
    assert gzip.decompress(packed[2]) == plain[2]
    packed = server.get("/edr/collections", **{"Accept-Encoding": "gzip, zstd"})
    assert packed[1]["content-encoding"] == "zstd"
    assert zstd.decompress(packed[2]) == plain[2]
    lasting = server.get(f"/static/view.js?v={rhodolite.__version__}")[1]
    assert "immutable" in lasting["cache-control"]
    tile = server.get("/zarr/maps/zarr.json", **{"Accept-Encoding": "gzip"})
    assert tile[1]["content-encoding"] is None
    assert json.loads(server.get("/health")[2])["status"] == "ok"
    counted = server.get("/metrics")[2].decode()
    assert re.search(
        r'rhodolite_requests_total\{kind="edr",status="200"\} \d+', counted
    )
    assert counted.endswith("# EOF\n")
    listed = json.loads(server.get("/datasets")[2])
    assert all(
        server.get(urllib.parse.urlsplit(one["edr"]).path)[0] == 200 for one in listed
    )
    landing = json.loads(server.get("/edr")[2])
    (api,) = [link for link in landing["links"] if link["rel"] == "service-desc"]
    status, headers, body = server.get(urllib.parse.urlsplit(api["href"]).path)
    assert (status, headers["content-type"]) == (200, api["type"])
    described = json.loads(body)
    assert described["openapi"].startswith("3.0")
    for path, item in described["paths"].items():
        given = item["get"].get("parameters", [])
        words = {
            p["name"]: p["example"]
            for p in given
            if p["required"] and p["in"] == "query"
        }
        filled = path.replace("{collectionId}", "maps").rstrip("/")
        query = urllib.parse.urlencode(words)
        assert server.get(f"/edr{filled}" + (f"?{query}" if query else ""))[0] == 200, (
            path
        )
