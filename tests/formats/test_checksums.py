"""Damage to the bytes of values is noticed, in every format that we write with checksums."""

from __future__ import annotations

import h5py
import numpy as np
import pytest

import rhodolite
from conftest import make_dataset, run_here
from rhodolite.errors import DataError


def _places_of_values(path):
    """Yield file and byte of the first, a middle and the last byte of every chunk."""
    if path.is_dir():
        for file in sorted(path.rglob("*")):
            if file.is_file() and not file.name.startswith((".z", "zarr.json")):
                size = file.stat().st_size
                yield from ((file, at) for at in {0, size // 2, size - 1})
        return
    with h5py.File(path) as file:
        for stored in file.values():
            for at in range(stored.id.get_num_chunks() if stored.chunks else 0):
                chunk = stored.id.get_chunk_info(at)
                low, size = chunk.byte_offset, chunk.size
                yield from ((path, low + at) for at in {0, size // 2, size - 1})


@pytest.mark.parametrize(
    ("name", "options"),
    [
        ("a.nc", {}),
        ("a.nc", {"compression": "none"}),
        ("a.nc", {"compression": "small", "unlimited": True}),
        ("a.zarr", {}),
        ("a.zarr", {"compression": "none"}),
        ("a.zarr", {"format": "zarr2"}),
    ],
)
def test_a_changed_byte_of_values_is_an_error_or_changes_nothing(
    tmp_path, rng, name, options
):
    values = rng.normal(280, 5, (8, 30, 40)).astype("f4")
    path = tmp_path / name
    make_dataset(values).write(path, **options)
    held = {v: rhodolite.read(path)[v].values() for v in ("tas", "time", "lat", "lon")}
    noticed = 0
    for file, at in _places_of_values(path):
        content = file.read_bytes()
        file.write_bytes(content[:at] + bytes([content[at] ^ 0x10]) + content[at + 1 :])
        try:
            found = {v: rhodolite.read(path)[v].values() for v in held}
        except DataError:
            noticed += 1
        else:
            for variable, expected in held.items():
                np.testing.assert_array_equal(found[variable], expected)
        file.write_bytes(content)
    assert noticed >= 8


def test_without_checksums_none_are_written(tmp_path, rng):
    make_dataset(rng.normal(280, 5, (8, 30, 40)).astype("f4")).write(tmp_path / "a.nc")
    words = ("subset", "a.nc", "--compression", "none")
    assert run_here(*words, "-o", "b.nc", folder=tmp_path).code == 0
    assert run_here(*words, "--no-checksums", "-o", "c.nc", folder=tmp_path).code == 0
    with (
        h5py.File(tmp_path / "b.nc") as with_sums,
        h5py.File(tmp_path / "c.nc") as without,
    ):
        assert all(stored.fletcher32 for stored in with_sums.values())
        assert not any(stored.fletcher32 for stored in without.values())
