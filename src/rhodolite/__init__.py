"""Rhodolite: read gridded climate data, calculate with them, draw them, write them.

Examples
--------
>>> import rhodolite
>>> data = rhodolite.read("nordic_daily_*.nc")  # doctest: +SKIP
>>> data.anomaly(base="2012..2016").write("departures.nc")  # doctest: +SKIP
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from rhodolite import drawing, operations
from rhodolite.version import __version__

if TYPE_CHECKING:
    from rhodolite.api.dataset import Dataset as Dataset
    from rhodolite.api.files import read as read
    from rhodolite.api.files import write as write
    from rhodolite.api.variable import Variable as Variable
    from rhodolite.api.work import Serving as Serving
    from rhodolite.api.work import build as build
    from rhodolite.api.work import join as join
    from rhodolite.api.work import retrace as retrace
    from rhodolite.api.work import serve as serve
    from rhodolite.api.work import study as study
    from rhodolite.api.work import verify as verify
    from rhodolite.arrays.engine import Engine as Engine
    from rhodolite.errors import DataError as DataError
    from rhodolite.errors import OutputError as OutputError
    from rhodolite.errors import RhodoliteError as RhodoliteError
    from rhodolite.errors import RhodoliteWarning as RhodoliteWarning
    from rhodolite.errors import UsageError as UsageError

_PLACES = {
    **{
        verb.capitalize(): f"rhodolite.operations.{verb}"
        for verb in operations.SUMMARIES
    },
    **{name: module for module, name in map(drawing.place_of, drawing.SUMMARIES)},
    "Dataset": "rhodolite.api.dataset",
    "read": "rhodolite.api.files",
    "write": "rhodolite.api.files",
    **dict.fromkeys(
        ("Serving", "build", "join", "retrace", "serve", "study", "verify"),
        "rhodolite.api.work",
    ),
    "Variable": "rhodolite.api.variable",
    "Engine": "rhodolite.arrays.engine",
    "RhodoliteError": "rhodolite.errors",
    "DataError": "rhodolite.errors",
    "UsageError": "rhodolite.errors",
    "OutputError": "rhodolite.errors",
    "RhodoliteWarning": "rhodolite.errors",
}
"""Where the names of the face live; each is imported when it is first used."""

__all__ = ["__version__", "from_arrays", "from_pandas", *_PLACES]


def __getattr__(name: str) -> Any:
    """Import the parts of the face when they are first used, so that the package loads quickly."""
    if name in ("from_arrays", "from_pandas"):
        return getattr(import_module(_PLACES["Dataset"]).Dataset, name)
    if name in _PLACES:
        return getattr(import_module(_PLACES[name]), name)
    raise AttributeError(f"module 'rhodolite' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
