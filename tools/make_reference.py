"""Write docs/reference.md from the declarations of the operations."""

from pathlib import Path

from rhodolite.study.reference import reference

Path(__file__).parents[1].joinpath("docs", "reference.md").write_text(reference(), encoding="utf-8")
