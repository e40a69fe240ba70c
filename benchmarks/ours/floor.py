"""Decodes all chunks of the variable tas, and encodes all those of a result, on all cores; prints
the seconds of both: the floor of any work that reads one and writes the other.

python benchmarks/ours/floor.py SOURCE RESULT
"""

import sys
import time
from concurrent.futures import ThreadPoolExecutor

import h5py
import numpy as np

import rhodolite
from rhodolite.arrays import Engine
from rhodolite.formats.netcdf.hdf5_filters import ChunkCodec

data = rhodolite.read(sys.argv[1])["tas"].data
engine = Engine()
_, total, regions = engine.blocks(data)
began = time.perf_counter()
for _ in engine.stream(lambda region: data.read(region).shape, regions, "decoding", total):
    pass
decoding = time.perf_counter() - began
encoding = 0.0
with h5py.File(sys.argv[2]) as file, ThreadPoolExecutor(engine.workers) as pool:
    stored = next(file[name] for name in ("tas", "tas_trend") if name in file)
    if stored.chunks is not None:
        shape, chunk = stored.shape, stored.chunks
        codec = ChunkCodec(stored.dtype, chunk, ("shuffle", "deflate"))
        corners = list(np.ndindex(*(-(-n // c) for n, c in zip(shape, chunk, strict=True))))
        for first in range(0, len(corners), 32):
            chunks = []
            for corner in corners[first : first + 32]:
                part = np.zeros(chunk, stored.dtype)
                starts = [at * c for at, c in zip(corner, chunk, strict=True)]
                held = stored[tuple(slice(s, s + c) for s, c in zip(starts, chunk, strict=True))]
                part[tuple(slice(0, n) for n in held.shape)] = held
                chunks.append(part)
            began = time.perf_counter()
            list(pool.map(codec.encode, chunks))
            encoding += time.perf_counter() - began
print(f"{decoding:.3f} {encoding:.3f}")
