"""Decodes all chunks of a file's largest variable, or those that a region touches, and encodes all
those of a result, on all cores; prints the seconds of both: the floor of any work that reads one
and writes the other.

python benchmarks/ours/floor.py SOURCE RESULT [LATITUDES LONGITUDES]
"""

import sys
import time
from concurrent.futures import ThreadPoolExecutor

import h5py
import numpy as np

import rhodolite
from rhodolite.arrays import Engine
from rhodolite.formats.netcdf.hdf5_filters import ChunkCodec

AT_ONCE = 32
"""Chunks of the result that are held decoded."""


def decode(source: str, region: list[str]) -> float:
    dataset = rhodolite.read(source)
    if region:
        dataset = rhodolite.Subset(lat=region[0], lon=region[1])(dataset)
    data = max(
        (variable.data for variable in dataset.fields), key=lambda data: data.size
    )
    engine = Engine()
    _, total, regions = engine.blocks(data)
    began = time.perf_counter()
    for _ in engine.stream(
        lambda region: data.read(region).shape, regions, "decoding", total
    ):
        pass
    return time.perf_counter() - began


def encode(stored: h5py.Dataset) -> float:
    shape, chunk = stored.shape, stored.chunks
    codec = ChunkCodec(stored.dtype, chunk, ("shuffle", "deflate"))
    corners = list(np.ndindex(*(-(-n // c) for n, c in zip(shape, chunk, strict=True))))
    seconds = 0.0
    with ThreadPoolExecutor(Engine().workers) as pool:
        for first in range(0, len(corners), AT_ONCE):
            chunks = [
                padded_chunk(stored, corner)
                for corner in corners[first : first + AT_ONCE]
            ]
            began = time.perf_counter()
            list(pool.map(codec.encode, chunks))
            seconds += time.perf_counter() - began
    return seconds


def padded_chunk(stored: h5py.Dataset, corner: tuple[int, ...]) -> np.ndarray:
    starts = [at * c for at, c in zip(corner, stored.chunks, strict=True)]
    region = tuple(slice(s, s + c) for s, c in zip(starts, stored.chunks, strict=True))
    held = stored[region]
    part = np.zeros(stored.chunks, stored.dtype)
    part[tuple(slice(0, n) for n in held.shape)] = held
    return part


if __name__ == "__main__":
    source, result, *region = sys.argv[1:]
    decoding, encoding = decode(source, region), 0.0
    with h5py.File(result) as file:
        for name in file:
            stored = file[name]
            if (
                stored.chunks is not None
                and stored.dtype.kind in "fiu"
                and stored.ndim > 1
            ):
                encoding += encode(stored)
    print(f"{decoding:.3f} {encoding:.3f}")
