"""The documents tell the truth: their commands run, their links lead somewhere, generated pages are
fresh."""

from __future__ import annotations

import doctest
import importlib
import linecache
import pkgutil
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest
from PIL import Image
from tools.make_reference import reference

import rhodolite
from conftest import run_command
from rhodolite.cli.main import main

ROOT = Path(__file__).parents[1]
README = (ROOT / "README.md").read_text(encoding="utf-8")


@pytest.mark.slow
def test_the_commands_of_the_readme_run_in_order(demo, tmp_path, monkeypatch, capsys):
    (tmp_path / "demo").symlink_to(demo)
    monkeypatch.chdir(tmp_path)
    commands = [
        line for line in README.splitlines() if re.match(r"rhodolite [a-z]", line)
    ]
    assert len(commands) > 12
    for command in commands:
        if command.startswith("rhodolite serve"):
            continue  # runs until it is interrupted, and has tests of its own
        # In one process, since half of the time would go into starting it anew.
        code = main(shlex.split(command)[1:])
        assert code == 0, f"{command}\n{capsys.readouterr().err}"
        if (output := re.search(r"-o (\S+)", command)) and "--plan" not in command:
            written = list(
                tmp_path.glob(re.sub(r"(\{\w+\})+", "*", output.group(1).strip("'")))
            )
            assert written, command
            assert all(path.stat().st_size > 40 for path in written)
    python = re.search(r"```python\n(.*?)```", README, re.DOTALL).group(1)
    done = subprocess.run(
        [sys.executable, "-c", python], cwd=tmp_path, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    assert 0.5 < float(done.stdout) < 3.5


@pytest.mark.slow
def test_the_full_example_answers_its_questions_and_its_data_are_the_same_each_time(
    demo, tmp_path
):
    answer = run_command("demo", tmp_path / "d")
    assert answer.code == 0, answer.err
    assert "Was the winter of 2014 warmer than normal, and where?" in answer.out
    pictures = sorted(path.name for path in (tmp_path / "d").glob("*.png"))
    shown = {path.name for path in (ROOT / "docs" / "screenshots").iterdir()}
    assert set(pictures) <= shown, "docs/screenshots lacks a picture of the example"
    names = sorted(
        str(path.relative_to(demo)) for path in demo.rglob("*") if path.is_file()
    )
    assert len(names) == 12 + 10 + 2 * 24 + 8
    for name in names:
        assert (demo / name).read_bytes() == (tmp_path / "d" / name).read_bytes(), name
    assert sum((demo / name).stat().st_size for name in names) < 100e6


@pytest.mark.slow
@pytest.mark.long
def test_the_full_example_is_made_again_from_its_report_to_the_bit(tmp_path):
    assert run_command("demo", tmp_path / "d").code == 0
    answer = run_command(
        "retrace", "d/report.html", "--run", "--into", "again", folder=tmp_path
    )
    assert answer.code == 0, answer.err
    made = [
        path
        for path in (tmp_path / "again").iterdir()
        if path.suffix in (".nc", ".png", ".csv")
    ]
    assert len(made) == len(list((tmp_path / "d").glob("*.png"))) + 11
    for path in made:
        assert _content(path) == _content(tmp_path / "d" / path.name), path.name


def _content(path):
    """The values of an output, without what says when and from where it was made."""
    if path.suffix == ".png":
        with Image.open(path) as picture:
            return picture.size, picture.tobytes()
    if path.suffix == ".csv":
        return path.read_bytes()
    data = rhodolite.read(path)
    return {name: data[name].values().tobytes() for name in data}


_PAGES = [
    "README.md",
    *(str(p.relative_to(ROOT)) for p in (ROOT / "docs").rglob("*.md")),
]


@pytest.mark.parametrize("page", _PAGES)
def test_links_lead_somewhere(page):
    text = (ROOT / page).read_text(encoding="utf-8")
    for link, anchor in re.findall(r"\]\(([^)#:]+)(?:#([^)]*))?\)", text):
        place = (ROOT / page).parent / link
        assert place.exists(), link
        if anchor and place.suffix == ".md":
            headings = re.findall(
                r"^#+ (.*)$", place.read_text(encoding="utf-8"), re.MULTILINE
            )
            assert anchor in map(_anchor_of, headings), (link, anchor)


def _anchor_of(heading):
    return re.sub(r"[^\w\- ]", "", heading.lower()).replace(" ", "-")


def test_the_reference_is_fresh():
    written = (ROOT / "docs" / "reference.md").read_text(encoding="utf-8")
    assert written == reference(), "run python tools/make_reference.py"


def test_the_architecture_names_files_that_are_there():
    page = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    named = set(re.findall(r"`((?:\w+/)+\w+\.py)`", page))
    assert len(named) > 8
    for name in named:
        place = ROOT if name.startswith("tools/") else ROOT / "src" / "rhodolite"
        assert (place / name).exists(), name


@pytest.mark.slow
def test_examples_in_docstrings_are_right(tmp_path):
    tried = 0
    temperatures = rhodolite.from_arrays(
        {"tas": [280.0, 284.0]}, {"lat": [0.0, 60.0]}, units={"tas": "K"}
    )
    temperatures.write(tmp_path / "two.nc")
    recipe = tmp_path / "recipe.toml"
    recipe.write_text('[inputs]\ntwo = "two.nc"\n[outputs]\n"copy.nc" = "two"\n')
    given = {"rhodolite": rhodolite, "data": temperatures, "recipe": recipe}
    for module in pkgutil.walk_packages(rhodolite.__path__, "rhodolite."):
        if module.name != "rhodolite.__main__":
            folder = tmp_path / module.name
            folder.mkdir()
            given["folder"] = folder
            part = importlib.import_module(module.name)
            linecache.clearcache()  # Each example asks whether these files have changed.
            result = doctest.testmod(part, extraglobs=given)
            assert result.failed == 0, module.name
            tried += result.attempted
    assert tried >= 120


_NUMBER = re.compile(r"\d+(?:[.,]\d+)?(?=\D|$)")
_BLOCK = re.compile(r"```(\w+)\n(.*?)```", re.DOTALL)


def _blocks(page):
    return _BLOCK.findall(page.read_text(encoding="utf-8"))


def _say_the_same(line, other):
    """Whether two lines are the same but for the last digits of numbers, which differ from one kind
    of processor to another."""
    words = [_NUMBER.sub("#", text).split() for text in (line, other)]
    if words[0] != words[1]:
        return False
    first, second = (
        [float(number.replace(",", ".")) for number in _NUMBER.findall(text)]
        for text in (line, other)
    )
    return first == pytest.approx(second, rel=2e-4)


@pytest.mark.slow
@pytest.mark.parametrize(
    "with_studies", [False, pytest.param(True, marks=pytest.mark.long)]
)
def test_the_guide_is_true_in_its_order(
    demo, tmp_path, monkeypatch, capsys, with_studies
):
    """Commands run in one folder, what is said to come back does, Python runs, and each study is
    understood, or makes what its command has made, to the bit."""
    (tmp_path / "demo").symlink_to(demo)
    monkeypatch.chdir(tmp_path)
    names: dict[str, object] = {}
    said, studies = "", 0
    for page in sorted((ROOT / "docs" / "guide").glob("[0-9]*.md")):
        for kind, text in _blocks(page):
            if kind == "sh":
                said = ""
                for line in text.splitlines():
                    code = main(shlex.split(line)[1:])
                    shown = capsys.readouterr()
                    assert code == 0 or line.startswith("rhodolite check"), (
                        f"{line}\n{shown.err}"
                    )
                    said += shown.out + shown.err
            elif kind == "text":
                tables = [Path(name) for name in re.findall(r"wrote (\S+\.csv)", said)]
                known = said + "".join(
                    path.read_text(encoding="utf-8") for path in tables
                )
                there = known.splitlines()
                missing = [
                    line
                    for line in text.splitlines()
                    if not any(_say_the_same(line, one) for one in there)
                ]
                assert not missing, (page.name, missing, known)
            elif kind == "python":
                exec(compile(text, page.name, "exec"), names)
                capsys.readouterr()
            else:
                studies += 1
                Path("study.toml").write_text(text, encoding="utf-8")
                more = [] if with_studies else ["--plan"]
                words = ["study", "study.toml", "--into", f"again{studies}", *more]
                assert main(words) == 0, capsys.readouterr().err
                capsys.readouterr()
                for path in Path(f"again{studies}").glob("[!.]*"):
                    if path.suffix != ".toml":
                        assert _content(path) == _content(Path(path.name)), path
    assert studies > 20


def test_the_guide_numbers_its_questions_and_the_index_names_all():
    pages = sorted((ROOT / "docs" / "guide").glob("[0-9]*.md"))
    asked = [
        line
        for page in pages
        for line in page.read_text().splitlines()
        if line[:3] == "## "
    ]
    numbers = [int(line.split(".")[0].removeprefix("## ")) for line in asked]
    assert numbers == list(range(1, 38))
    index = (ROOT / "docs" / "guide" / "index.md").read_text(encoding="utf-8")
    for page in pages:
        for line in page.read_text(encoding="utf-8").splitlines():
            if line.startswith("## "):
                title = line.removeprefix("## ")
                assert f"[{title}]({page.name}#{_anchor_of(title)})" in index, title
    for term, target in re.findall(r"\[(\d+)\]\((\S+?)\)", index):
        assert re.search(rf"#{term}-", target), (term, target)


@pytest.mark.slow
@pytest.mark.parametrize(
    "name", ["guide/from-spreadsheets", "guide/from-numpy", "guide/administrators"]
)
def test_what_pages_show_runs(demo, tmp_path, monkeypatch, capsys, name):
    (tmp_path / "demo").symlink_to(demo)
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("MPLBACKEND", "Agg")
    names: dict[str, object] = {}
    for kind, text in _blocks(ROOT / "docs" / f"{name}.md"):
        if kind == "python":
            exec(compile(text, name, "exec"), names)
            continue
        for line in text.splitlines() if kind == "sh" else ():
            assert main(shlex.split(line)[1:]) == 0, (
                f"{line}\n{capsys.readouterr().err}"
            )
