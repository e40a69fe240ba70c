"""Headers read by several processes, since the library that reads them lets in one thread at a
time.

The processes are programs of their own, started from here: `python -m` with this module reads the
place of a file as a line of JSON, and answers with a line of JSON: the header as text, or null
where the file has to be read by whoever asks, who then meets its errors and warnings.
"""

from __future__ import annotations

import contextlib
import json
import subprocess
import sys
import warnings
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import IO

from rhodolite.formats.header_cache import Place
from rhodolite.limits import usable_cores

FEWEST = 400
"""Files that are worth the start of processes, which takes as long as a hundred of them."""
_MOST = 8
"""Processes; more than these wait for one disk."""


class HeaderReaders:
    """Processes that read headers, as many as there are processors.

    They are started when they are first asked, and ended with the context.
    """

    def __init__(self) -> None:
        self._processes: list[subprocess.Popen[bytes]] = []
        self._tried = False

    def __enter__(self) -> HeaderReaders:
        return self

    def __exit__(self, *_: object) -> None:
        for process in self._processes:
            process.kill()
            process.communicate()
        self._processes = []

    def describe(self, places: Sequence[Place]) -> dict[Place, str]:
        """Return the headers as text of those files that text can stand for."""
        if not self._tried:
            self._tried = True
            self._start(min(usable_cores(), _MOST))
        count = len(self._processes)
        if not count:
            return {}
        shares = [places[at::count] for at in range(count)]
        with ThreadPoolExecutor(count) as pool:
            described = list(pool.map(_ask, self._processes, shares))
        texts = {place: text for share in described for place, text in share}
        if 2 * len(texts) < len(places):
            self.__exit__()  # most have to be read here anyway
        return texts

    def _start(self, count: int) -> None:
        if count < 2 or not sys.executable:
            return
        # Where no process can be started, headers are read here, as they always can be.
        with contextlib.suppress(OSError):
            for _ in range(count):
                self._processes.append(
                    subprocess.Popen(
                        # Without the folder that one is in, which may hold a file `json.py`.
                        [sys.executable, "-P", "-m", __name__],
                        stdin=subprocess.PIPE,
                        stdout=subprocess.PIPE,
                        stderr=subprocess.DEVNULL,
                    )
                )


def _ask(
    process: subprocess.Popen[bytes], places: Sequence[Place]
) -> list[tuple[Place, str]]:
    """Return what a process answers, file by file; nothing more once it has died."""
    assert process.stdin is not None
    assert process.stdout is not None
    answers = []
    with contextlib.suppress(OSError, ValueError):
        for place in places:
            path, group = place
            process.stdin.write(json.dumps([str(path), group]).encode() + b"\n")
            process.stdin.flush()
            text = json.loads(process.stdout.readline())
            if text is not None:
                answers.append((place, text))
    return answers


def answer(questions: IO[str]) -> Iterator[str]:
    """Yield an answer to each question.

    Parameters
    ----------
    questions : file
        Lines of JSON: path and group.
    """
    from rhodolite.formats.headers.described import read_described

    for line in questions:
        path, group = json.loads(line)
        text = None
        # Whoever asks reads the file again, and says what is wrong with it.
        with contextlib.suppress(Exception), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            text = read_described((Path(path), group))[1]
        yield json.dumps(text)


def main() -> None:
    """Answer until nobody asks any more."""
    for line in answer(sys.stdin):
        sys.stdout.write(line + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
