"""Write docs/reference.md from the declarations of operations and drawings."""

from __future__ import annotations

from pathlib import Path

from rhodolite.cli.examples import EXAMPLES
from rhodolite.drawing import all_drawings
from rhodolite.operations import all_operations
from rhodolite.operations.declaration import Parameter, description, parameters

_HEAD = """\
# Reference

For those who know the verb, and look up what its options are called and how their values are typed.

Generated from the declarations in `src/rhodolite/operations` and `src/rhodolite/drawing` by
`python tools/make_reference.py`. A parameter has the same name on the command line, in Python
(with `_` for `-`) and in the record of a file.

How values are typed: ranges are `A..B`, both ends included, open at either end (`2001..`).
Latitudes and longitudes take a hemisphere letter or a sign (`35S`, `-35`). Times are as exact as
they are written: `2003-07` is all of that July.

`inspect`, `check`, `join`, `build` and `demo` explain themselves with `--help`, as every verb
does; `--help-run` explains the run options, which every verb has.
"""


def reference() -> str:
    """Return the reference page as Markdown."""
    parts = [_HEAD]
    for verb, cls in all_operations().items():
        parts.append(_section(verb, cls))
    for kind, cls in all_drawings().items():
        parts.append(_section(f"draw {kind}", cls))
    return "\n".join(parts)


def _section(verb: str, cls: type) -> str:
    lines = [
        f"## {verb}",
        "",
        description(cls),
        "",
        "| parameter | meaning | typed like | default |",
        "|---|---|---|---|",
    ]
    lines += [_row(declared) for declared in parameters(cls)]
    if verb in EXAMPLES:
        lines += [
            "",
            "```sh",
            *(f"rhodolite {command}" for command in EXAMPLES[verb]),
            "```",
        ]
    return "\n".join(lines) + "\n"


def _row(declared: Parameter) -> str:
    if declared.switch:
        return f"| `--{declared.name}` | {declared.help} | (a switch) | |"
    example = (
        ", ".join(f"`{choice}`" for choice in declared.choices)
        or f"`{declared.metavar}`"
    )
    default = (
        "" if declared.default is None else f"`{declared.format(declared.default)}`"
    )
    return f"| `--{declared.name}` | {declared.help} | {example} | {default} |"


if __name__ == "__main__":
    page = Path(__file__).parents[1] / "docs" / "reference.md"
    page.write_text(reference(), encoding="utf-8")
