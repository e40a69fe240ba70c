"""Turn the public-domain Natural Earth countries into the small file that ships with the package.

The input is a folder with `countries-110m.json` and `countries-50m.json` in TopoJSON, as the npm
package `world-atlas` carries them:

    npm pack world-atlas && tar xzf world-atlas-*.tgz
    python tools/make_outlines.py package src/rhodolite/regions/data/outlines.npz
"""

from __future__ import annotations

import json
import sys
from collections import Counter
from pathlib import Path

import numpy as np


def main(folder: str, target: str) -> None:
    stored = {}
    for scale in ("110m", "50m"):
        topology = json.loads((Path(folder) / f"countries-{scale}.json").read_text())
        stored.update(
            {f"{key}_{scale}": value for key, value in pack(topology).items()}
        )
    np.savez_compressed(target, **stored)


def pack(topology: dict) -> dict[str, np.ndarray]:
    """Return arcs as steps on the integer grid of the topology, and countries as rings of arcs."""
    arcs = [np.array(arc, dtype=np.int32) for arc in topology["arcs"]]
    countries = topology["objects"]["countries"]["geometries"]
    names, owners, rings = [], [], []
    for number, country in enumerate(countries):
        names.append(country["properties"]["name"])
        polygons = (
            country["arcs"] if country["type"] == "MultiPolygon" else [country["arcs"]]
        )
        for polygon in polygons:
            for order, ring in enumerate(polygon):
                owners.append((number, order))
                rings.append(np.array(ring, dtype=np.int32))
    # An arc that two countries share is a border; one that bounds a single country is coast.
    uses = Counter()
    for (number, _), ring in zip(owners, rings, strict=True):
        uses.update({(arc if arc >= 0 else ~arc, number) for arc in ring.tolist()})
    neighbours = Counter(arc for arc, _ in uses)
    transform = topology["transform"]
    return {
        "steps": np.concatenate(arcs),
        "lengths": np.array([len(arc) for arc in arcs], dtype=np.int32),
        "border": np.array([neighbours[at] > 1 for at in range(len(arcs))]),
        "transform": np.array([transform["scale"], transform["translate"]]),
        "names": np.array(names),
        "owners": np.array(owners, dtype=np.int32),
        "rings": np.concatenate(rings),
        "ring_lengths": np.array([len(ring) for ring in rings], dtype=np.int32),
    }


if __name__ == "__main__":
    main(*sys.argv[1:])
