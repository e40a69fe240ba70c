"""Help as people read it: on terminals of every width, with examples that work."""

from __future__ import annotations

import contextlib
import io
import re
import shlex

import pytest

from conftest import run_here
from rhodolite.cli.examples import EXAMPLES
from rhodolite.cli.main import main
from rhodolite.cli.verbs import ALL_VERBS
from rhodolite.drawing import SUMMARIES as DRAWINGS

TITLES = [verb for verb in ALL_VERBS if verb != "draw"] + [
    f"draw {kind}" for kind in DRAWINGS
]
_NEEDS_A_PICTURE_OR_SERVER = ("serve", "demo")
_OF_THEIR_OWN_KIND = ("inspect", "check", "build", "join", "retrace", "study")


def help_of(title, option="--help"):
    out = io.StringIO()
    with contextlib.redirect_stdout(out), pytest.raises(SystemExit) as ended:
        main([*title.split(), option])
    assert not ended.value.code
    return out.getvalue()


@pytest.mark.parametrize("width", [40, 72, 200])
def test_help_is_as_wide_as_the_terminal_and_ends_with_examples(monkeypatch, width):
    monkeypatch.setenv("COLUMNS", str(width))
    for title in TITLES:
        page = help_of(title)
        within = min(max(width - 2, 58), 98)
        long = [line.strip() for line in page.splitlines() if len(line) > within]
        # Usage, an option with its choices, and a single word cannot be cut.
        assert not [x for x in long if not x.startswith(("usage:", "--")) and " " in x]
        assert title == "demo" or "run options, which --help-run explains: " in page
        assert title in EXAMPLES
        shown = page.partition("examples:\n")[2].replace("\\\n", " ")
        commands = [shlex.split(line) for line in shown.splitlines()]
        assert commands == [
            ["rhodolite", *shlex.split(line)] for line in EXAMPLES[title]
        ]
        more = help_of(title, "--help-run")
        work = more.partition("\nhow work is done:\n")[2].partition(
            "\nwhat is said of it:\n"
        )[0]
        assert title == "demo" or re.search(r"--memory SIZE\s+memory for data", work)


@pytest.mark.slow
@pytest.mark.parametrize("whole", [False, pytest.param(True, marks=pytest.mark.long)])
@pytest.mark.parametrize(
    "title", [t for t in TITLES if t not in _NEEDS_A_PICTURE_OR_SERVER]
)
def test_the_examples_of_help_work(demo, tmp_path, title, whole):
    """Each is planned, for which its inputs are read and its words understood, or done."""
    (tmp_path / "demo").symlink_to(demo)
    for command in EXAMPLES[title]:
        planned = not whole and title not in _OF_THEIR_OWN_KIND and " -o " in command
        words = [*shlex.split(command), *(["--plan"] if planned else [])]
        answer = run_here(*words, folder=tmp_path)
        assert answer.code == 0, (command, answer.err)
        place = re.search(r" -o (\S+)", command)
        assert planned or place is None or (tmp_path / place[1]).exists()
