"""The full example on the demo data: commands that look at what there is, and the study that
answers the questions of the cooperative."""

from __future__ import annotations

from importlib.resources import files

STUDY = "study.toml"
FIRST_STEPS: tuple[tuple[str, str], ...] = (
    ("What is in the Nordic files?", "inspect nordic_daily_*.nc"),
    ("Can others use the table of reservoirs as it is?", "check reservoirs.csv"),
    (
        "How do the text grids of snow become a file that explains itself?",
        "build snow --description snow.toml -o snow.nc",
    ),
)
"""Pairs of a question and the words of a command; files are named as in the folder of the demo."""


def study_text() -> str:
    """Return the study that is written beside the data."""
    return files("rhodolite.demo").joinpath(STUDY).read_text(encoding="utf-8")
