"""Runs commands on mutants in forked children, with limits of memory and time.

    python tests/fuzz/runner.py --count 1000 --seed 5 [--kind zarr3] [--minimise]

prints what no mutant may do: end with an internal error, hang, crash, take more than 4 GiB, or
print a control character.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import re
import resource
import shutil
import signal
import sys
import tempfile
import warnings
from functools import partial
from pathlib import Path
from typing import NamedTuple

sys.path[:0] = [str(Path(__file__).parent), str(Path(__file__).parents[1])]

from minimise import minimise  # noqa: E402
from mutants import make_mutant, write_seeds  # noqa: E402

SECONDS = 60
BYTES = 4 << 30
_UNSEEN = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
_COMMANDS = {
    "data": (
        ["inspect", "{m}"],
        ["inspect", "{m}", "--statistics", "--json"],
        ["check", "{m}"],
        ["subset", "{m}", "--lat", "1..4", "-o", "o.nc", "--overwrite"],
        ["subset", "{m}", "--time", "2000-02..2000-05", "-o", "o.csv", "--overwrite"],
        [
            "anomaly",
            "{m}",
            "--min-years",
            "1",
            "--min-coverage",
            "0",
            "-o",
            "o.nc",
            "--overwrite",
        ],
        [
            "aggregate",
            "{m}",
            "--to",
            "year",
            "--min-coverage",
            "0",
            "-o",
            "o.nc",
            "--overwrite",
        ],
        ["summarise", "{m}", "-o", "o.csv", "--overwrite"],
        ["regrid", "{m}", "--to", "1", "-o", "o.nc", "--overwrite"],
        ["trend", "{m}", "-o", "o.nc", "--overwrite"],
        ["convert", "{m}", "--pack", "keep", "-o", "o.zarr", "--overwrite"],
        ["draw", "map", "{m}", "-o", "o.png", "--overwrite"],
        ["draw", "series", "{m}", "-o", "o.svg", "--overwrite"],
        ["extract", "{m}", "--points", "{sites}", "-o", "o.csv", "--overwrite"],
    ),
    "sites": (
        ["extract", "{nc4}", "--points", "{m}", "-o", "o.csv", "--overwrite"],
        ["inspect", "{m}"],
    ),
    "geojson": (
        ["subset", "{nc4}", "--region", "{m}", "-o", "o.nc", "--overwrite"],
        ["summarise", "{nc4}", "--region", "{m}", "-o", "o.csv", "--overwrite"],
    ),
    "shp": (["subset", "{nc4}", "--region", "{m}", "-o", "o.nc", "--overwrite"],),
    "description": (
        ["build", "{csv}", "--description", "{m}", "-o", "o.nc", "--overwrite"],
    ),
    "toml": (["inspect", "{m}"], ["subset", "{m}", "-o", "o.nc", "--overwrite"]),
}


class Failure(NamedTuple):
    """What a mutant did that none may do."""

    kind: str
    number: int
    change: str
    command: str
    what: str


def run_mutants(
    folder: Path,
    count: int,
    seed: int,
    kind: str | None = None,
    *,
    smaller: bool = False,
) -> list[Failure]:
    """Return the failures of a number of mutants, each under one command.

    `smaller` says whether what a failing mutant changed is made smaller and printed.
    """
    seeds = write_seeds(folder)
    chooser = random.Random(seed)
    failures = []
    for number in range(count):
        chosen = kind or chooser.choice(sorted(seeds))
        rng = random.Random(f"{seed}-{number}-{chosen}")
        target = folder / f"m{seeds[chosen].suffix}"
        if chosen == "asc":
            target = folder / "m_200001.asc"
        shutil.rmtree(target) if target.is_dir() else target.unlink(missing_ok=True)
        change = make_mutant(seeds[chosen], chosen, target, rng)
        words = rng.choice(_COMMANDS.get(chosen, _COMMANDS["data"]))
        places = {"m": target, **seeds}
        command = [word.format(**places) for word in words]
        what = run_limited(command, folder)
        if what:
            shown = " ".join(words)
            failures.append(Failure(chosen, number, change, shown, what))
            print(f"{chosen} {number}: {change}\n  {shown}\n  {what}", flush=True)
            if smaller:
                fails = partial(_fails_likewise, command, folder, what)
                print(minimise(seeds[chosen], target, fails), flush=True)
    return failures


def _fails_likewise(command: list[str], folder: Path, what: str) -> bool:
    """Whether a command fails in the same way, apart from the numbers in its message."""
    found = run_limited(command, folder)
    return (
        bool(found)
        and re.sub(r"\d+", "#", found)[:80] == re.sub(r"\d+", "#", what)[:80]
    )


def run_limited(command: list[str], folder: Path) -> str:
    """Return what was wrong with a command in a child of its own; nothing where all was well."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reading)
        _run_child(command, folder, writing)
    os.close(writing)
    with os.fdopen(reading, "rb") as pipe:
        answer = pipe.read()
    _, status = os.waitpid(child, 0)
    if os.WIFSIGNALED(status):
        ended = signal.Signals(os.WTERMSIG(status)).name
        return f"hangs for {SECONDS} s" if ended == "SIGALRM" else f"ends by {ended}"
    if not answer:
        return f"ends with {os.WEXITSTATUS(status)} and says nothing"
    found = json.loads(answer)
    if found["code"] not in (0, 2, 3, 4):
        return _shorten(str(found["err"]))
    unseen = _UNSEEN.search(found["out"] + found["err"])
    return f"prints {unseen.group()!r}: {found['err'][:200]!r}" if unseen else ""


def _shorten(text: str) -> str:
    """Return the error, and where it arose as far as that is our code."""
    places = re.findall(
        r'File "[^"]*src/rhodolite/([^"]+)", line (\d+), in (\w+)', text
    )
    shown = " > ".join(f"{path}:{line} {name}" for path, line, name in places[-3:])
    last = [line for line in text.strip().split("\n") if "internal error" in line] or [
        text[-300:]
    ]
    return f"{last[-1][:300]}  [{shown}]"


def _run_child(command: list[str], folder: Path, writing: int) -> None:
    from conftest import run_here

    resource.setrlimit(resource.RLIMIT_AS, (BYTES, BYTES))
    signal.signal(signal.SIGALRM, signal.SIG_DFL)
    signal.alarm(SECONDS)
    null = os.open(os.devnull, os.O_WRONLY)
    os.dup2(null, 1)
    os.dup2(null, 2)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            answer = run_here(*command, "--debug", folder=folder)
        found = {"code": answer.code, "out": answer.out, "err": answer.err}
    except BaseException as error:
        found = {"code": -1, "out": "", "err": f"{type(error).__name__}: {error}"}
    with os.fdopen(writing, "wb") as pipe:
        pipe.write(json.dumps(found).encode())
    os._exit(0)


def main() -> int:
    """Run as many mutants as are wanted, and print what failed."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kind")
    parser.add_argument("--minimise", action="store_true")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        failures = run_mutants(
            Path(name),
            options.count,
            options.seed,
            options.kind,
            smaller=options.minimise,
        )
    print(f"{len(failures)} of {options.count} mutants did what none may do")
    return bool(failures)


if __name__ == "__main__":
    sys.exit(main())
