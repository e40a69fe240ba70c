"""Data served over DAP2: a small server written after the specification (NASA ESE-RFC-004), on
127.0.0.1."""

from __future__ import annotations

import re
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import unquote

import numpy as np
import pytest

import rhodolite
from conftest import run_here
from rhodolite.errors import DataError

VALUES = np.arange(40 * 30 * 50, dtype=">f4").reshape(40, 30, 50)
SERVED = {
    "time": (("time",), np.arange(40, dtype=">f8"), {"units": "days since 2001-01-01"}),
    "lat": (("lat",), np.arange(30, dtype=">f8"), {"units": "degrees_north"}),
    "lon": (("lon",), np.arange(50, dtype=">f8"), {"units": "degrees_east"}),
    "tas": (("time", "lat", "lon"), VALUES, {"units": "K"}),
}


def describe(parts):
    """The DDS of some variables, each with the values that a request asks for."""
    lines = []
    for name, values in parts.items():
        kind = "Float64" if values.dtype.itemsize == 8 else "Float32"
        sizes = "".join(
            f"[{d} = {n}]" for d, n in zip(SERVED[name][0], values.shape, strict=True)
        )
        lines.append(f"    {kind} {name}{sizes};\n")
    return f"Dataset {{\n{''.join(lines)}}} data;\n"


def requested(query):
    """What a constraint expression asks for: names, each with hyperslabs as [start:step:last]."""
    if not query:
        return {name: values for name, (_, values, _) in SERVED.items()}
    found = {}
    for name, slabs in re.findall(r"(\w+)((?:\[[\d:]+\])*)", query):
        picks = []
        for text in re.findall(r"\[([\d:]+)\]", slabs):
            numbers = [int(n) for n in text.split(":")]
            first, step, last = (
                numbers[0],
                numbers[1] if len(numbers) == 3 else 1,
                numbers[-1],
            )
            picks.append(slice(first, last + 1, step))
        found[name] = SERVED[name][1][tuple(picks)]
    return found


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        path, _, query = self.path.partition("?")
        query = unquote(query)
        if not path.startswith("/data."):
            self.send_error(404)
            return
        if path.endswith(".das"):
            inner = "".join(
                f'  {name} {{\n    String units "{about["units"]}";\n  }}\n'
                for name, (*_, about) in SERVED.items()
            )
            about = '  NC_GLOBAL {\n    String title "Served";\n  }\n'
            body = f"Attributes {{\n{inner}{about}}}\n".encode()
        else:
            parts = requested(query)
            body = describe(parts).encode()
            if path.endswith(".dods"):
                self.server.log.append(
                    {name: values.size for name, values in parts.items()}
                )
                body += b"\nData:\n" + b"".join(
                    np.array([values.size] * 2, ">u4").tobytes() + values.tobytes()
                    for values in parts.values()
                )
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("XDODS-Server", "dods/3.2")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


@pytest.fixture
def server():
    made = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    made.log = []
    threading.Thread(target=made.serve_forever, daemon=True).start()
    yield made
    made.shutdown()


@pytest.mark.slow
def test_only_the_part_asked_for_is_fetched(server, tmp_path):
    address = f"http://127.0.0.1:{server.server_port}/data"
    page = run_here("inspect", address)
    assert page.code == 0, page.err
    assert f"{address}  (DAP2)\nServed\n" in page.out
    assert "30 latitudes x 50 longitudes" in page.out
    assert sum(request.get("tas", 0) for request in server.log) == 0
    out = tmp_path / "part.nc"
    answer = run_here(
        "subset",
        address,
        "--lat",
        "3..5",
        "--lon",
        "10..12",
        "--time",
        "2001-01-05..2001-01-08",
        "-o",
        out,
    )
    assert answer.code == 0, answer.err
    part = rhodolite.read(out)
    np.testing.assert_array_equal(part["tas"].values(), VALUES[4:8, 3:6, 10:13])
    assert sum(request.get("tas", 0) for request in server.log) == 4 * 3 * 3
    assert f"subset {address} --lat" in part.attributes["history"]


def test_an_address_without_data_is_told(server):
    with pytest.raises(
        DataError,
        match=r"other: no dataset is served there over DAP2 .*check the address",
    ):
        rhodolite.read(f"http://127.0.0.1:{server.server_port}/other")
    server.shutdown()
    server.server_close()
    with pytest.raises(DataError, match="no dataset is served there"):
        rhodolite.read(f"http://127.0.0.1:{server.server_port}/data")
