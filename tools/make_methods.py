"""Write src/rhodolite/model/verb_methods.py: every verb as a method, from the declarations."""

from __future__ import annotations

import subprocess
import sys
import textwrap
import typing
from pathlib import Path

from rhodolite.drawing import all_drawings
from rhodolite.model.typed_value import FileValue
from rhodolite.operations import all_operations
from rhodolite.operations.declaration import Parameter, Step, description, parameters
from rhodolite.operations.parameters.other_dataset import OtherDataset

TARGET = Path(__file__).parents[1] / "src" / "rhodolite" / "model" / "verb_methods.py"
_HEAD = '''\
"""Every verb as a method of a dataset. Written by `python tools/make_methods.py`; do not edit."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from os import PathLike
from typing import TYPE_CHECKING, Any, Literal, cast

if TYPE_CHECKING:
    from rhodolite.model.dataset import Dataset


class VerbMethods:
    """The verbs, as methods that return a new dataset or a figure."""

    def _apply(self, verb: str, settings: dict[str, Any]) -> Dataset:
        # Found by name, since operations lie above the model.
        step = import_module("rhodolite.operations").operation(verb)
        return cast("Dataset", step(**settings)(self))

    def _draw(self, kind: str, axes: Any, settings: dict[str, Any]) -> Any:
        step = import_module("rhodolite.drawing").drawing(kind)
        return step(**settings)(self, axes=axes)
'''


def make_methods() -> str:
    """Return the module as text, before it is formatted."""
    parts = [_HEAD]
    parts += [_method(verb, cls) for verb, cls in all_operations().items()]
    parts += [_method(f"draw_{kind}", cls) for kind, cls in all_drawings().items()]
    return "\n".join(parts)


def make_formatted() -> str:
    """Return the module as the formatter leaves it."""
    ruff = [sys.executable, "-m", "ruff", "format", "--quiet", "--stdin-filename", str(TARGET), "-"]
    done = subprocess.run(ruff, input=make_methods(), capture_output=True, text=True, check=True)
    return done.stdout


def _method(name: str, cls: type[Step]) -> str:
    declared = parameters(cls)
    draws = name.startswith("draw_")
    arguments = [f"{one.field}: {_annotation(one)} = {_default(one)}" for one in declared]
    if draws:
        arguments.append("axes: Any = None")
    settings = ", ".join(f"{one.field}={one.field}" for one in declared)
    call = (
        f'self._draw("{cls.verb}", axes, dict({settings}))'
        if draws
        else f'self._apply("{cls.verb}", dict({settings}))'
    )
    returns = "Any" if draws else "Dataset"
    lines = [f"    def {name}(self, *, {', '.join(arguments)}) -> {returns}:"]
    doc = [*description(cls).splitlines(), "", "Parameters", "----------"]
    for one in declared:
        doc.append(f"{one.field}")
        doc += textwrap.wrap(
            f"{one.help[:1].upper()}{one.help[1:]}{_example(one)}.",
            84,
            initial_indent="    ",
            subsequent_indent="    ",
            break_on_hyphens=False,
            break_long_words=False,
        )
    if draws:
        doc += ["axes", "    Matplotlib axes to draw into, in place of a figure of its own."]
    lines += textwrap.indent('"""' + "\n".join(doc) + '\n"""', " " * 8).splitlines()
    lines.append(f"        return {call}")
    return "\n".join(lines) + "\n"


def _example(declared: Parameter) -> str:
    return f', such as ``"{declared.example}"``' if declared.example else ""


def _annotation(declared: Parameter) -> str:
    kind = declared.type
    if declared.switch:
        return "bool"
    if declared.choices:
        named = ", ".join(f'"{choice}"' for choice in declared.choices)
        return f"Literal[{named}]" + (" | None" if declared.default is None else "")
    if kind is OtherDataset:
        text = "str | PathLike[str] | Dataset"
    elif typing.get_origin(kind) is tuple or declared.listed:
        text = "str | float | Sequence[str] | Sequence[float]"
    elif declared.repeats:
        text = "str | Sequence[str]"
    elif isinstance(kind, type) and issubclass(kind, FileValue):
        text = "str | PathLike[str]"
    elif kind in (int, float, str):
        text = kind.__name__
    else:
        text = "str | float"
    return text + (" | None" if declared.default is None else "")


def _default(declared: Parameter) -> str:
    if declared.default is None:
        return "None"
    value = declared.format(declared.default)
    return f'"{value}"' if isinstance(value, str) else repr(value)


if __name__ == "__main__":
    TARGET.write_text(make_formatted(), encoding="utf-8")
