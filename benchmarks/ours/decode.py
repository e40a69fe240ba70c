"""Decodes all chunks of the variable tas on all cores and throws the values away: the floor of any
work on them.

python benchmarks/ours/decode.py SOURCE
"""

import sys

import rhodolite
from rhodolite.arrays import Engine

data = rhodolite.read(sys.argv[1])["tas"].data
engine = Engine()
_, total, regions = engine.blocks(data)
for _ in engine.stream(lambda region: data.read(region).shape, regions, "decoding", total):
    pass
