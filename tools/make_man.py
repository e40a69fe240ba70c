"""Write docs/rhodolite.1, the manual page, from the declarations of verbs and drawings."""

from __future__ import annotations

from pathlib import Path

from rhodolite.cli.examples import EXAMPLES
from rhodolite.cli.verbs import ALL_VERBS
from rhodolite.drawing import all_drawings
from rhodolite.operations import all_operations
from rhodolite.operations.declaration import Step, description, parameters

_HEAD = r""".TH RHODOLITE 1 "" "rhodolite" "User commands"
.SH NAME
rhodolite \- gridded climate data, from a file to an answer
.SH SYNOPSIS
.B rhodolite
.I VERB INPUT...
[options] [\fBthen\fR \fIVERB\fR [options]]...
\fB\-o\fR \fIOUTPUT\fR
.SH DESCRIPTION
Opens multidimensional datasets, selects from them, computes statistics, climatologies, anomalies,
indices and trends, regrids, draws, and writes files with metadata. Steps joined by \fBthen\fR run
as one computation. The suffix of OUTPUT determines the format.
.PP
\fBrhodolite\fR \fIVERB\fR \fB\-\-help\fR explains a verb and lists all of its options.
.SH VERBS
"""
_TAIL = r""".SH ENVIRONMENT
.TP
.B RHODOLITE_MEMORY, RHODOLITE_WORKERS, RHODOLITE_COMPRESSION, RHODOLITE_SCRATCH
Defaults of \-\-memory, \-\-workers, \-\-compression and \-\-scratch.
.SH FILES
.TP
.I ~/.config/rhodolite/config.toml
The same defaults, such as memory = "2GiB"; on other systems where their user configuration is.
.SH EXIT STATUS
0 done; 1 internal error; 2 the command line is wrong; 3 the data cannot serve; 4 the output cannot
be written; 5 another process is writing it; 130 interrupted.
"""


def make_man() -> str:
    """Return the manual page as roff."""
    parts = [_HEAD]
    parts += [f".TP\n.B {verb}\n{_escape(text)}\n" for verb, text in ALL_VERBS.items()]
    parts += [_section(verb, cls) for verb, cls in all_operations().items()]
    parts += [_section(f"draw {kind}", cls) for kind, cls in all_drawings().items()]
    return "".join([*parts, _TAIL])


def _section(title: str, cls: type[Step]) -> str:
    lines = [f".SH {title.upper()}", *_paragraphs(description(cls))]
    for declared in parameters(cls):
        value = "" if declared.switch else rf" \fI{_escape(declared.metavar)}\fR"
        lines += [
            ".TP",
            rf"\fB\-\-{_escape(declared.name)}\fR{value}",
            _escape(declared.help),
        ]
    if title in EXAMPLES:
        commands = [f"rhodolite {_escape(command)}" for command in EXAMPLES[title]]
        lines += [".PP", "Examples:", ".nf", *commands, ".fi"]
    return "\n".join(lines) + "\n"


def _paragraphs(text: str) -> list[str]:
    return [_escape(line) if line.strip() else ".PP" for line in text.splitlines()]


def _escape(text: str) -> str:
    escaped = text.replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{escaped}" if escaped.startswith((".", "'")) else escaped


if __name__ == "__main__":
    page = Path(__file__).parents[1] / "docs" / "rhodolite.1"
    page.write_text(make_man(), encoding="utf-8")
