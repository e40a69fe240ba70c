"""What the dataset says of itself as a whole (CF 2.6, ACDD 1.3)."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.checking.finding import Finding, advice, warning
from rhodolite.model.dataset import Dataset

_ANEW = "rewriting the file adds them: rhodolite join FILE -o NEW.nc"
_TITLES = {
    "title": "what the dataset is, in one line",
    "institution": "where it was made",
    "source": "how it was made: model and version, or the kind of observation",
    "history": "what was done to it, and when",
}


def conventions(dataset: Dataset) -> Iterator[Finding]:
    """The dataset says which conventions it follows (CF 2.6.1)."""
    given = str(dataset.attributes.get("Conventions", ""))
    if "CF-" not in given:
        what = (
            f"Conventions is '{given}' and names no version of CF"
            if given
            else "no Conventions are named"
        )
        yield warning(
            "dataset",
            f"{what}, so programs do not know how to read it",
            "CF 2.6.1",
            advice=_ANEW,
        )


def described(dataset: Dataset) -> Iterator[Finding]:
    """Title, institution, source and history are given (CF 2.6.2)."""
    for key, meaning in _TITLES.items():
        if not str(dataset.attributes.get(key, "")).strip():
            yield advice(
                "dataset",
                f"there is no {key}: {meaning}",
                "CF 2.6.2",
                advice=f"--set ':{key}=...'",
            )


def extents(dataset: Dataset) -> Iterator[Finding]:
    """Extents in space and time are given, by which catalogues find data (ACDD 1.3)."""
    wanted = [
        key
        for role, key in (
            ("latitude", "geospatial_lat_min"),
            ("time", "time_coverage_start"),
        )
        if role in dataset.axes.by_role
    ]
    if lost := [key for key in wanted if key not in dataset.attributes]:
        yield advice(
            "dataset",
            f"there is no {' and no '.join(lost)}, by which catalogues find data",
            "ACDD 1.3",
            advice=_ANEW,
        )


CHECKS = (conventions, described, extents)
