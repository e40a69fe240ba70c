"""Print the oldest versions that `pyproject.toml` allows, as constraints for pip.

python tools/lowest.py > lowest.txt
pip install -c lowest.txt -e '.[projections,cluster,serve]'
"""

from __future__ import annotations

import re
import sys
import tomllib
from pathlib import Path

PROJECT = Path(__file__).parents[1] / "pyproject.toml"
_EXTRAS = ("projections", "cluster", "serve")


def find_lowest(text: str) -> list[str]:
    """Return a constraint for each library that the program itself needs.

    Parameters
    ----------
    text : str
        Of a pyproject.toml.
    """
    project = tomllib.loads(text)["project"]
    wanted = list(project["dependencies"])
    for extra in _EXTRAS:
        wanted += project["optional-dependencies"][extra]
    return sorted(re.sub(r">=([\d.]+).*", r"==\1", one) for one in wanted)


if __name__ == "__main__":
    sys.stdout.write("\n".join(find_lowest(PROJECT.read_text())) + "\n")
