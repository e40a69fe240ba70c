"""Whether a dataset follows the CF conventions, and what hinders its use by others.

Each module looks at one side of a dataset; each check is a function that takes the dataset, as
the files have it, and yields findings.
"""

from __future__ import annotations

from rhodolite.checking import (
    coordinates,
    global_attributes,
    references,
    times,
    variables,
    vertical_axes,
)
from rhodolite.checking.finding import Finding, Severity
from rhodolite.model.dataset import Dataset

_CHECKS = (
    *variables.CHECKS,
    *coordinates.CHECKS,
    *times.CHECKS,
    *vertical_axes.CHECKS,
    *references.CHECKS,
    *global_attributes.CHECKS,
)


def check(dataset: Dataset) -> list[Finding]:
    """Return what is wrong with a dataset, the most severe first.

    Parameters
    ----------
    dataset : Dataset
        As the files have it, with nothing read generously.
    """
    found = [finding for one in _CHECKS for finding in one(dataset)]
    return sorted(found, key=lambda finding: list(Severity).index(finding.severity))


__all__ = ["Finding", "Severity", "check"]
