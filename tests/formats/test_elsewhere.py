"""Files and stores behind a web server or an object store: by ranges, never a wrong number.

The server is a stand-in written after RFC 9110 (ranges) and the listing of S3, on 127.0.0.1.
"""

import re
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, unquote, urlparse

import numpy as np
import pytest
import zarr

import rhodolite
from conftest import run_here, write_plain
from rhodolite.errors import DataError

pytest.importorskip("obstore")


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_HEAD(self):
        self.do_GET()

    def do_GET(self):
        server, parts = self.server, urlparse(self.path)
        if "list-type" in parts.query:
            self.answer(200, self.listing(parse_qs(parts.query)))
            return
        path = server.root / unquote(parts.path).removeprefix("/bucket").lstrip("/")
        span = re.match(r"bytes=(\d*)-(\d*)", self.headers.get("Range", ""))
        span = span if server.ranges else None
        server.log.append((self.command, path.name, span and span.group(0)))
        time.sleep(server.delay)
        if server.failing and self.command == "GET":
            server.failing -= 1
            self.answer(server.status, b"not now")
        elif not path.is_file():
            self.answer(404, b"nothing")
        else:
            content = path.read_bytes()
            headers = {"ETag": f'"{path.stat().st_mtime_ns}"', "Accept-Ranges": "bytes"}
            headers["Last-Modified"] = "Mon, 01 Jan 2001 00:00:00 GMT"
            if span is None:
                self.answer(200, content, headers)
                return
            first, last = self.ends_of(span, len(content))
            headers["Content-Range"] = f"bytes {first}-{last}/{len(content)}"
            part = content[first : last + 1]
            self.answer(206, part[: len(part) - server.cut], headers)

    @staticmethod
    def ends_of(span, size):
        """Return first and last byte; without a first one so many bytes are the last ones."""
        if not span.group(1):
            return max(size - int(span.group(2)), 0), size - 1
        return int(span.group(1)), min(int(span.group(2) or size), size - 1)

    def do_PUT(self):
        content = self.rfile.read(int(self.headers["Content-Length"]))
        place = self.server.root / unquote(urlparse(self.path).path)[8:]
        self.server.log.append(("PUT", place.name, None))
        if self.server.refused and self.server.refused in str(place):
            self.answer(403, b"no")
            return
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content)
        self.answer(200, b"", {"ETag": '"x"'})

    def do_POST(self):
        """Delete objects, as their names are listed."""
        listed = self.rfile.read(int(self.headers["Content-Length"])).decode()
        keys = re.findall(r"<Key>(.*?)</Key>", listed)
        for key in keys:
            self.server.log.append(("DELETE", key, None))
            (self.server.root / key).unlink(missing_ok=True)
        told = "".join(f"<Deleted><Key>{key}</Key></Deleted>" for key in keys)
        self.answer(200, f"<DeleteResult>{told}</DeleteResult>".encode())

    def listing(self, query):
        before = query.get("prefix", [""])[0]
        keys = [
            str(path.relative_to(self.server.root))
            for path in sorted(self.server.root.rglob("*"))
            if path.is_file()
        ]
        entries = "".join(
            f"<Contents><Key>{key}</Key><LastModified>2001-01-01T00:00:00.000Z</LastModified>"
            f"<ETag>x</ETag><Size>1</Size></Contents>"
            for key in keys
            if key.startswith(before)
        )
        inner = f"<IsTruncated>false</IsTruncated>{entries}"
        return f"<ListBucketResult>{inner}</ListBucketResult>".encode()

    def answer(self, code, body, headers=()):
        self.send_response(code)
        for key, value in dict(headers).items():
            self.send_header(key, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command in ("GET", "PUT", "POST"):
            self.wfile.write(body)

    def log_message(self, *_):
        pass


@pytest.fixture
def server(tmp_path, monkeypatch):
    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as running:
        running.root, running.log = tmp_path, []
        running.ranges, running.refused = True, ""
        running.delay, running.failing, running.status, running.cut = 0.0, 0, 503, 0
        thread = threading.Thread(target=running.serve_forever, args=(0.01,))
        thread.start()
        running.address = f"http://127.0.0.1:{running.server_port}"
        monkeypatch.setenv("AWS_ENDPOINT_URL", running.address)
        monkeypatch.setenv("AWS_REGION", "nowhere-1")
        yield running
        running.shutdown()
        thread.join()


@pytest.fixture
def values(tmp_path, rng):
    values = rng.normal(280, 5, (60, 240, 160)).astype("f4")
    write_plain(
        tmp_path / "days.nc", values, lats=np.linspace(-80, 80, 240),
        lons=np.arange(160) * 2.0,
        chunksizes=(1, 120, 80), zlib=True, complevel=1,
    )  # fmt: skip
    return values


@pytest.mark.parametrize(
    ("scheme", "kind"),
    [("http", kind) for kind in ("nc", "nc3", "zarr2", "tif", "grid.csv")]
    + [("s3", kind) for kind in ("nc", "zarr3", "tif")],
)
@pytest.mark.usefixtures("values")
def test_what_lies_elsewhere_is_what_lies_here(server, tmp_path, kind, scheme):
    name = {"nc3": "o.nc", "zarr3": "o.zarr", "zarr2": "o.zarr"}.get(kind, f"o.{kind}")
    form = {"nc3": ["--format", "netcdf3-64bit"], "zarr2": ["--format", "zarr2"]}
    words = ["--time", "2000-01-01..2000-01-05", *form.get(kind, [])]
    words += ["--lat", "0..9"] if kind == "grid.csv" else []
    answer = run_here("subset", tmp_path / "days.nc", *words, "-o", tmp_path / name)
    assert answer.code == 0, answer.err
    base = server.address if scheme == "http" else "s3://bucket"
    there = rhodolite.read(f"{base}/{name}")
    here = rhodolite.read(tmp_path / name)
    assert there.variables.keys() == here.variables.keys()
    for variable in here.variables:
        assert dict(there[variable].attributes) == dict(here[variable].attributes)
        np.testing.assert_array_equal(there[variable].values(), here[variable].values())
    assert str(there.files[0]) == f"{base}/{name}"


def test_a_box_takes_its_chunks_alone_and_all_at_once(server, tmp_path, values):
    data = rhodolite.read(f"{server.address}/days.nc")
    assert "tas" in data.variables
    server.log.clear()
    server.delay = 0.05
    box = data.subset(lat="-80..0", lon="0..100").variables["tas"]
    np.testing.assert_array_equal(box.values(), values[:, :120, :51])
    fetched = sum(
        int(last) - int(first) + 1
        for _, _, span in server.log
        if span
        for first, last in [span.removeprefix("bytes=").split("-")]
    )
    whole = (tmp_path / "days.nc").stat().st_size
    assert fetched < whole / 2
    # Neighbours among the sixty chunks come together.
    assert len(server.log) < 60
    np.testing.assert_array_equal(data["tas"].values(), values)


def test_a_server_that_gives_no_parts_gives_the_whole(server, values):
    server.ranges = False
    data = rhodolite.read(f"{server.address}/days.nc")
    server.failing = 10**6
    np.testing.assert_array_equal(data["tas"].values(), values)


def test_what_fails_for_a_while_is_asked_for_again(server, values):
    server.failing = 3
    data = rhodolite.read("s3://bucket/days.nc")
    server.failing = 2
    np.testing.assert_array_equal(data["tas"].values(), values)
    assert server.failing == 0


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"failing": 10**6, "status": 403}, "access is denied"),
        ({"cut": 3}, "asked for|cannot be read"),
    ],
)
@pytest.mark.usefixtures("values")
def test_what_goes_on_failing_is_said_and_gives_no_number(server, change, said):
    data = rhodolite.read(f"{server.address}/days.nc")
    for key, value in change.items():
        setattr(server, key, value)
    with pytest.raises(DataError, match=said):
        data["tas"].values()


@pytest.mark.usefixtures("values")
def test_an_object_that_is_replaced_while_it_is_read_gives_no_number(server, tmp_path):
    """The places of chunks are those of the one before: what lies there now is something else."""
    data = rhodolite.read(f"{server.address}/days.nc")
    path = tmp_path / "days.nc"
    path.write_bytes(bytes(reversed(path.read_bytes())))
    with pytest.raises(DataError, match="was replaced while it was being read"):
        data["tas"].values()


def test_addresses_of_nothing_and_secrets_in_none(server, tmp_path, monkeypatch):
    for address in ("s3://bucket/none.nc", "s3://bucket/none.zarr"):
        with pytest.raises(DataError, match=r"no Zarr store|nothing at this address"):
            rhodolite.read(address)
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "KNOWN")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "HIDDEN")
    (tmp_path / "secret.nc").write_bytes(b"CDF\1" + bytes(30))
    server.failing, server.status = 10**6, 403
    answer = run_here("inspect", "s3://bucket/secret.nc")
    assert "access is denied" in answer.err
    assert "HIDDEN" not in answer.err + answer.out


NAMES = ["o.nc", "o.zarr", "o.tif", "o.csv", "o.png"]


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.usefixtures("values")
def test_what_is_written_to_a_store_is_what_is_written_here(server, tmp_path, name):
    """Whole under its name; refused where something lies, and replaced where that is asked for."""
    draw = ["then", "draw", "map"] if name == "o.png" else []
    chosen = ["subset", "days.nc", "--time", "2000-01-02..2000-01-03", "--lat", "0..9"]
    (tmp_path / "there").mkdir()
    for place in (f"here_{name}", f"s3://bucket/there/{name}"):
        answer = run_here(*chosen, *draw, "-o", place, folder=tmp_path)
        assert answer.code == 0, answer.err
        assert f"wrote {place} (" in answer.err
    again = run_here(*chosen, *draw, "-o", place, folder=tmp_path)
    assert again.code == 4 and f"{place}: exists already" in again.err
    words = [*chosen, *draw, "-o", place, "--overwrite"]
    assert run_here(*words, folder=tmp_path).code == 0
    if name == "o.png":
        pictures = [tmp_path / "here_o.png", tmp_path / "there/o.png"]
        assert pictures[1].read_bytes()[:8] == pictures[0].read_bytes()[:8]
        return
    here = rhodolite.read(tmp_path / f"here_{name}")["tas"].values()
    np.testing.assert_array_equal(rhodolite.read(place)["tas"].values(), here)
    if name in ("o.nc", "o.zarr"):
        told = run_here("retrace", place, folder=tmp_path)
        assert told.code == 0 and f'files = "{tmp_path}/days.nc"' in told.out
        assert f'[outputs."{name}"]' in told.out
        verified = run_here("retrace", place, "--verify", folder=tmp_path)
        assert verified.code == 0, verified
    roots = [entry[1] for entry in server.log if entry[0] == "PUT"]
    assert not name.endswith(".zarr") or roots[-1] == "zarr.json"


@pytest.mark.usefixtures("values")
def test_a_store_that_cannot_be_written_whole_is_not_there(server, tmp_path):
    server.refused = "tas/c/0"
    words = ["subset", "days.nc", "--time", "2000-01-01..2000-01-02", "-o"]
    answer = run_here(*words, "s3://bucket/there/o.zarr", folder=tmp_path)
    assert answer.code == 4 and "access is denied" in answer.err
    assert not [path for path in tmp_path.rglob("there/*") if path.is_file()]
    answer = run_here(*words, f"{server.address}/o.nc", folder=tmp_path)
    assert answer.code == 4 and "a web server takes no files" in answer.err
    same = "s3://bucket/days.nc"
    answer = run_here("subset", same, "-o", same, "--overwrite", folder=tmp_path)
    assert answer.code == 4 and "this is also an input" in answer.err
    words[3] = "2000-01-31..2000-02-01"
    for number in (1, 2):
        split = run_here(*words, "s3://bucket/part/d_{month}.nc", folder=tmp_path)
        assert (split.code == 0) == (number == 1), split.err
    assert sorted(p.name for p in (tmp_path / "part").iterdir()) == [
        "d_01.nc",
        "d_02.nc",
    ]


def test_shards_elsewhere_are_read_by_their_inner_chunks(server, tmp_path, rng):
    values = rng.random((8, 20, 30)).astype("f4")
    root = zarr.open_group(str(tmp_path / "s.zarr"), mode="w")
    names = ("time", "lat", "lon")
    axes = np.arange(8.0), np.linspace(-80, 80, 20), np.arange(30) * 12.0
    units = "days since 2001-01-01", "degrees_north", "degrees_east"
    for name, numbers, unit in zip(names, axes, units, strict=True):
        root.create_array(name, data=numbers, dimension_names=(name,))
        root[name].attrs["units"] = unit
    root.create_array(
        "tas",
        data=values,
        chunks=(1, 10, 10),
        shards=(8, 20, 30),
        dimension_names=names,
    )
    root["tas"].attrs["units"] = "K"
    data = rhodolite.read("s3://bucket/s.zarr")
    server.log.clear()
    part = data.subset(time="2001-01-03", lat="0..90", lon="0..100")["tas"].values()
    np.testing.assert_array_equal(part, values[2:3, 10:, :9])
    asked = [span for _, name, span in server.log if name == "0" and span]
    assert len(asked) >= 2 and any("bytes=-" in span for span in asked)
    np.testing.assert_array_equal(data["tas"].values(), values)
