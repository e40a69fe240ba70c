"""What is no step of a chain, from Python: each against the command that does the same."""

from __future__ import annotations

import socket
import urllib.request

import netCDF4
import numpy as np
import pytest

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import DataError, UsageError

pytestmark = pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")


@pytest.fixture
def halves(tmp_path):
    values = np.arange(80.0).reshape(20, 2, 2)
    for name, part in (("a", slice(0, 12)), ("b", slice(10, 20))):
        data = make_dataset(values[part] + ord(name), times=np.arange(20.0)[part])
        rhodolite.write(data, tmp_path / f"{name}.nc")
    return tmp_path


@pytest.mark.parametrize("overlap", ["first", "last"])
def test_files_are_joined_as_the_command_joins_them(halves, overlap):
    files = [halves / "a.nc", halves / "b.nc"]
    joined = rhodolite.join(files, overlap=overlap)
    asked = ("join", "a.nc", "b.nc", "--overlap", overlap, "-o", "j.nc")
    assert run_here(*asked, folder=halves).code == 0
    written = rhodolite.read(halves / "j.nc")
    np.testing.assert_array_equal(joined["tas"].values(), written["tas"].values())
    assert type(joined.anomaly(cycle="none", min_years=1)) is type(written)
    with pytest.raises(DataError, match="both hold times"):
        rhodolite.join(files)


def test_tables_are_built(tmp_path):
    (tmp_path / "t.csv").write_text("time,P\n2001-01,1\n2001-02,2\n")
    (tmp_path / "d.toml").write_text(
        '[variables.rain]\nfrom = "P"\nunits = "mm"\nlong_name = "rain"\n'
    )
    built = rhodolite.build(tmp_path / "t.csv", tmp_path / "d.toml")
    assert (built["rain"].units, built["rain"].values().tolist()) == ("mm", [1.0, 2.0])
    assert built.convert(units="rain=cm")["rain"].values().tolist() == pytest.approx(
        [0.1, 0.2]
    )


def test_studies_are_made_and_outputs_traced_back(halves):
    asked = (
        "subset",
        "a.nc",
        "--time",
        "2000-01-03..",
        "-o",
        "s.nc",
        "--record",
        "s.toml",
    )
    assert run_here(*asked, folder=halves).code == 0
    before = rhodolite.read(halves / "s.nc")["tas"].values()
    written = rhodolite.study(halves / "s.toml", into=halves / "again")
    assert [path.resolve() for path in written] == [
        (halves / "again" / "s.nc").resolve()
    ]
    np.testing.assert_array_equal(rhodolite.read(written[0])["tas"].values(), before)
    assert rhodolite.study(halves / "s.toml", into=halves / "again") == []
    text = rhodolite.retrace(halves / "s.nc")
    assert text.strip() == run_here("retrace", halves / "s.nc").out.strip()
    assert set(rhodolite.verify(halves / "s.nc").values()) == {"the same"}
    rhodolite.write(make_dataset(np.zeros((12, 2, 2))), halves / "a.nc", overwrite=True)
    assert set(rhodolite.verify(halves / "s.nc").values()) != {"the same"}
    with pytest.raises(DataError, match="carries no study"):
        rhodolite.retrace(halves / "a.nc")


def test_datasets_are_served_while_python_goes_on(halves):
    data = rhodolite.read(halves / "a.nc")
    with rhodolite.serve(
        {"half": data.subset(time="2000-01-02..2000-01-05")}
    ) as serving:
        with netCDF4.Dataset(f"{serving.address}/dap/half") as remote:
            values = remote["tas"][...]
        with pytest.raises(UsageError, match="cannot listen"):
            rhodolite.serve(
                {"half": data}, port=int(serving.address.rpartition(":")[2])
            )
    np.testing.assert_array_equal(values, data["tas"].values()[1:5])
    host, _, port = serving.address.removeprefix("http://").partition(":")
    with pytest.raises(OSError), socket.create_connection((host, int(port)), timeout=5):
        urllib.request.urlopen(serving.address, timeout=5)
