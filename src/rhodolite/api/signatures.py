"""How a step that people call from Python is written down: types, defaults, documentation."""

from __future__ import annotations

import textwrap
import typing

from rhodolite.model.space.range_text import Position
from rhodolite.model.typed_value import FileValue, TypedValue
from rhodolite.operations.declaration import Parameter, Step, description, parameters
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.regions import Regions
from rhodolite.operations.parameters.sites import Sites


def docstring_of(step: type[Step]) -> str:
    """Return what the help of a method says.

    Parameters
    ----------
    step : type of Step
    """
    lines = [*description(step).splitlines(), "", "Parameters", "----------"]
    for declared in parameters(step):
        example = f', such as ``"{declared.example}"``' if declared.example else ""
        lines.append(declared.field)
        lines += textwrap.wrap(
            f"{declared.help[:1].upper()}{declared.help[1:]}{example}.",
            84,
            initial_indent="    ",
            subsequent_indent="    ",
            break_on_hyphens=False,
            break_long_words=False,
        )
    if step.draws:
        lines += [
            "axes",
            "    Matplotlib axes to draw into, in place of a figure of its own.",
        ]
    return "\n".join(lines) + "\n"


def annotation_of(declared: Parameter) -> str:
    """Return the type of an argument, as it is written.

    Parameters
    ----------
    declared : Parameter
    """
    if declared.switch:
        return "bool"
    optional = " | None" if declared.default is None else ""
    if declared.choices:
        named = ", ".join(f'"{choice}"' for choice in declared.choices)
        return f"Literal[{named}]{optional}"
    return _plain_types(declared) + optional


_TYPES: dict[object, str] = {
    OtherDataset: "str | PathLike[str] | Dataset",
    Regions: "str | PathLike[str] | Sequence[str] | HasOutline",
    Sites: "str | PathLike[str] | HasRows",
    Position: "str | tuple[float, float]",
}


def _plain_types(declared: Parameter) -> str:
    kind = declared.type
    if kind in _TYPES:
        return _TYPES[kind]
    if typing.get_origin(kind) is tuple or declared.listed:
        return "str | float | range | slice | Sequence[str] | Sequence[float]"
    if declared.repeats:
        return "str | Sequence[str]"
    if isinstance(kind, type) and issubclass(kind, FileValue):
        return "str | PathLike[str]"
    if isinstance(kind, type) and issubclass(kind, TypedValue) and kind.spans:
        return "str | float | date | range | slice | tuple[Any, Any]"
    return kind.__name__ if kind in (int, float, str) else "str | float"


def default_of(declared: Parameter) -> object:
    """Return the default of an argument, as people would type it.

    Parameters
    ----------
    declared : Parameter
    """
    return None if declared.default is None else declared.format(declared.default)
