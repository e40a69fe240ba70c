"""`rhodolite check`: what breaks the conventions, what hinders its use by others, and how
to repair it."""

from __future__ import annotations

import shlex
from dataclasses import asdict
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rhodolite.checking import Finding
    from rhodolite.cli.parser import Parser

_DESCRIPTION = """\
Whether a dataset follows the CF conventions (version 1.11), and what hinders its use by others.

The files are read as a stranger would, with nothing taken for granted. Each finding comes with
what to type to repair it. With --values the data are read, too, for values that their quantity
cannot have. The exit code is 3 where something breaks the conventions.
"""
_BROKEN = 3
_HEADINGS = {
    "error": "Errors: break the conventions",
    "warning": "Warnings: hinder use by others",
    "advice": "Advice: would help others",
}


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.options import add_inputs, add_variables
    from rhodolite.cli.parser import Parser
    from rhodolite.cli.run_options import add_run_options

    parser = Parser(
        "check", description=_DESCRIPTION, usage="rhodolite check INPUT... [options]"
    )
    add_inputs(parser)
    parser.add_argument(
        "--json", action="store_true", help="print the same for machines to read"
    )
    parser.add_argument(
        "--values",
        action="store_true",
        help="read the data for values that make no sense",
    )
    add_variables(parser)
    add_run_options(parser, output=False)
    return parser


def run(words: list[str], quiet: bool) -> int:
    """Run the verb and return its exit code."""
    from rhodolite.cli.console import show, show_json
    from rhodolite.cli.options import need_inputs
    from rhodolite.cli.run_options import input_of

    options = make_parser().parse(words)
    need_inputs(options.inputs, "check", "check data.nc")

    from rhodolite.checking import check
    from rhodolite.cli.engine import make_engine

    # As the files have it: what would be understood generously is what is looked for.
    dataset = input_of({**vars(options), "variable": None}).open().members[0]
    if options.variable:
        names = [name.strip() for text in options.variable for name in text.split(",")]
        dataset = dataset.restrict(map(dataset.find, names))
    engine = None
    if options.values:
        engine = make_engine(quiet, vars(options))
    findings = check(dataset, engine)
    if options.json:
        show_json(
            {
                "files": [str(file) for file in dataset.files],
                "findings": [asdict(finding) for finding in findings],
            }
        )
    else:
        show(_page(dataset.label, options.inputs, findings))
    return _BROKEN if any(finding.severity == "error" for finding in findings) else 0


def _page(label: str, inputs: list[str], findings: list[Finding]) -> str:
    lines = [f"{label}: {_verdict(findings)}"]
    for severity, heading in _HEADINGS.items():
        chosen = [finding for finding in findings if finding.severity == severity]
        if chosen:
            lines += ["", f"{heading} ({len(chosen)})"]
            for finding in chosen:
                lines += _entry(finding)
    settings = _at_once(findings)
    if settings:
        typed = " ".join(f"{option} {shlex.quote(value)}" for option, value in settings)
        command = f"rhodolite annotate {shlex.join(inputs)} {typed} -o repaired.nc"
        lines += ["", "All that annotate can repair, at once:", f"  {command}"]
    return "\n".join(lines)


def _at_once(findings: list[Finding]) -> list[tuple[str, str]]:
    """Return all settings for one call, which renames first, so that later settings use the new
    names."""
    settings = list(
        dict.fromkeys(pair for finding in findings for pair in finding.settings)
    )
    renamed = dict(
        value.split("=", 1) for option, value in settings if option == "--rename"
    )

    def under_new_name(value: str) -> str:
        name, mark, rest = value.partition(":")
        return f"{renamed.get(name, name)}{mark}{rest}"

    return [
        (option, value if option == "--rename" else under_new_name(value))
        for option, value in settings
    ]


def _verdict(findings: list[Finding]) -> str:
    if not findings:
        return "no problems found"
    errors = sum(finding.severity == "error" for finding in findings)
    return (
        f"does not follow CF 1.11 in {errors} place{'s' * (errors != 1)}"
        if errors
        else "follows CF 1.11 as far as can be checked"
    )


def _entry(finding: Finding) -> list[str]:
    typed = " ".join(
        f"{option} {shlex.quote(value)}" for option, value in finding.settings
    )
    lines = [f"  {finding.where}: {finding.what} [{finding.rule}]"]
    if typed:
        lines.append(f"      annotate {typed}")
    if finding.advice:
        lines.append(
            f"      {'annotate ' * finding.advice.startswith('--')}{finding.advice}"
        )
    return lines
