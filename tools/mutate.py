"""Would the tests notice? Changes the code at random in a copy, and counts what they miss.

    python tools/mutate.py --count 50 --seed 1 [--room kernels]

Each change is one token of a function: another comparison, another operator, a number that is one
more, a condition that is turned round, a copy that is left out. The tests are run until the first
fails,  Fewer than one change in ten should survive.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parents[1]
SOURCE = Path("src") / "rhodolite"
_ROOMS = ("kernels", "operations", "arrays")
_COMPARISONS: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
}
_OPERATORS: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Mult: ast.Div,
    ast.Div: ast.Mult,
    ast.FloorDiv: ast.Mult,
    ast.Mod: ast.Mult,
}


class Change(NamedTuple):
    """One change: the file, the line, and the whole text of the file with it."""

    path: Path
    line: int
    what: str
    text: str


def find_changes(path: Path) -> Iterator[Change]:
    """Yield every change that can be made to the functions of a file."""
    text = (ROOT / path).read_text(encoding="utf-8")
    count = sum(1 for _ in _spots(ast.parse(text)))
    for number in range(count):
        tree = ast.parse(text)
        node = list(_spots(tree))[number]
        line, before = node.lineno, ast.unparse(node)
        _change(node)
        yield Change(
            path, line, f"{before}  ->  {ast.unparse(node)}", ast.unparse(tree)
        )


def _spots(tree: ast.Module) -> Iterator[ast.expr]:
    for function in ast.walk(tree):
        if not isinstance(function, ast.FunctionDef):
            continue
        for node in ast.walk(function):
            if isinstance(node, ast.Compare) and type(node.ops[0]) in _COMPARISONS:
                yield node
            elif isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
                if not isinstance(node.left, (ast.JoinedStr, ast.List)):
                    yield node
            elif isinstance(node, ast.BoolOp) or _is_number(node) or _is_copy(node):
                yield node  # type: ignore[misc]


def _is_number(node: ast.AST) -> bool:
    return isinstance(node, ast.Constant) and type(node.value) in (int, float)


def _is_copy(node: ast.AST) -> bool:
    return (
        isinstance(node, ast.Call)
        and isinstance(node.func, ast.Attribute)
        and node.func.attr == "copy"
    )


def _change(node: ast.expr) -> None:
    if isinstance(node, ast.Compare):
        node.ops[0] = _COMPARISONS[type(node.ops[0])]()
    elif isinstance(node, ast.BinOp):
        node.op = _OPERATORS[type(node.op)]()
    elif isinstance(node, ast.BoolOp):
        node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
    elif isinstance(node, ast.Constant):
        node.value = node.value + 1  # type: ignore[operator]
    elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
        node.func.attr = "view"  # the same values, not copied


def is_noticed(change: Change, copy: Path, workers: int) -> bool:
    """Return whether a test fails with a change, which is undone afterwards."""
    target = copy / change.path
    original = target.read_text(encoding="utf-8")
    target.write_text(change.text, encoding="utf-8")
    words = [
        sys.executable,
        "-m",
        "pytest",
        "-x",
        "-q",
        "-n",
        str(workers),
        "-p",
        "no:cacheprovider",
    ]
    words += ["-m", "not slow", "--deselect", "tests/test_docs.py"]
    try:
        done = subprocess.run(
            words,
            cwd=copy,
            env={**os.environ, "PYTHONPATH": str(copy / "src")},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            timeout=1800,
        )
    except subprocess.TimeoutExpired:
        return True
    finally:
        target.write_text(original, encoding="utf-8")
    return done.returncode != 0


def main() -> int:
    """Make the changes, and print those that no test noticed."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--room", choices=_ROOMS)
    parser.add_argument("--workers", type=int, default=2)
    options = parser.parse_args()
    rooms = [options.room] if options.room else list(_ROOMS)
    files = [
        path.relative_to(ROOT)
        for room in rooms
        for path in (ROOT / SOURCE / room).rglob("*.py")
    ]
    offered = [change for path in sorted(files) for change in find_changes(path)]
    chosen = random.Random(options.seed).sample(
        offered, min(options.count, len(offered))
    )
    survivors = []
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "copy"
        ignored = shutil.ignore_patterns(
            ".venv*", ".git", "demo", "*.egg-info", "__pycache__"
        )
        shutil.copytree(ROOT, copy, ignore=ignored)
        for number, change in enumerate(chosen, 1):
            noticed = is_noticed(change, copy, options.workers)
            mark = "noticed " if noticed else "SURVIVED"
            print(
                f"{number:3} {mark} {change.path}:{change.line}  {change.what}",
                flush=True,
            )
            survivors += [] if noticed else [change]
    share = len(survivors) / len(chosen)
    print(f"{len(survivors)} of {len(chosen)} changes survived ({share:.0%})")
    return 0 if share < 0.1 else 1


if __name__ == "__main__":
    sys.exit(main())
