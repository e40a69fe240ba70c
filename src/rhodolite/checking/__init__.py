"""Whether a dataset follows the CF conventions, and what hinders its use by others.

Each module looks at one side of a dataset; each check is a function that takes the dataset, as
the files have it, and yields findings.
"""

from __future__ import annotations

from rhodolite.arrays import Engine
from rhodolite.checking import (
    coordinates,
    global_attributes,
    references,
    times,
    variables,
    vertical_axes,
)
from rhodolite.checking.finding import Finding, Severity
from rhodolite.checking.values import find_implausible
from rhodolite.model.dataset import Dataset

_CHECKS = (
    *variables.CHECKS,
    *coordinates.CHECKS,
    *times.CHECKS,
    *vertical_axes.CHECKS,
    *references.CHECKS,
    *global_attributes.CHECKS,
)


def check(dataset: Dataset, engine: Engine | None = None) -> list[Finding]:
    """Return what is wrong with a dataset, the most severe first.

    Parameters
    ----------
    dataset : Dataset
        As the files have it, with nothing read generously.
    engine : Engine, optional
        What reads the data, so that their values are looked at, too.
    """
    findings = [finding for check_one in _CHECKS for finding in check_one(dataset)]
    if engine is not None:
        findings += find_implausible(dataset, engine)
    return sorted(findings, key=lambda finding: list(Severity).index(finding.severity))


__all__ = ["Finding", "Severity", "check"]
