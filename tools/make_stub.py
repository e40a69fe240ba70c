"""Write src/rhodolite/api/verbs.pyi: the signatures of all verbs, from the declarations."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from rhodolite.api.signatures import annotation_of, default_of
from rhodolite.drawing import all_drawings
from rhodolite.operations import all_operations
from rhodolite.operations.declaration import Step, parameters

TARGET = Path(__file__).parents[1] / "src" / "rhodolite" / "api" / "verbs.pyi"
_HEAD = '''\
"""Signatures of all verbs. Written by `python tools/make_stub.py`; do not edit."""

from collections.abc import Sequence
from datetime import date
from os import PathLike
from typing import Any, Literal, Protocol, Self

from rhodolite.model.dataset import Dataset

class HasOutline(Protocol):
    @property
    def __geo_interface__(self) -> Any: ...

class HasRows(Protocol):
    def to_csv(self, *args: Any, **settings: Any) -> Any: ...

def find_method(name: str) -> Any: ...

class Verbs:
'''


def make_stub() -> str:
    """Return the stub as text, before it is formatted."""
    lines = [_signature(verb, step) for verb, step in all_operations().items()]
    lines += [_signature(f"draw_{kind}", step) for kind, step in all_drawings().items()]
    return _HEAD + "\n".join(lines) + "\n"


def make_formatted() -> str:
    """Return the stub as the formatter leaves it."""
    ruff = [
        sys.executable,
        "-m",
        "ruff",
        "format",
        "--quiet",
        "--stdin-filename",
        str(TARGET),
        "-",
    ]
    done = subprocess.run(
        ruff, input=make_stub(), capture_output=True, text=True, check=True
    )
    return done.stdout


def _signature(name: str, step: type[Step]) -> str:
    arguments = [
        f"{declared.field}: {annotation_of(declared)} = {_literal(default_of(declared))}"
        for declared in parameters(step)
    ]
    arguments += ["axes: Any = None"] if step.draws else []
    returns = "Any" if step.draws else "Self"
    return f"    def {name}(self, *, {', '.join(arguments)}) -> {returns}: ..."


def _literal(value: object) -> str:
    return f'"{value}"' if isinstance(value, str) else repr(value)


if __name__ == "__main__":
    TARGET.write_text(make_formatted(), encoding="utf-8")
