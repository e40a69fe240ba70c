"""Numbers between limits: shares from 0 to 1, and numbers of years."""

from __future__ import annotations

from rhodolite.errors import UsageError


def check_coverage(share: float) -> None:
    """Refuse a --min-coverage that is no share."""
    if not 0 <= share <= 1:
        raise UsageError(
            f"--min-coverage: '{share:g}' is not a share; write a number from 0 to 1, such as 0.8"
        )


def check_years(count: int) -> None:
    """Refuse a --min-years that is no number of years."""
    if count < 1:
        raise UsageError(f"--min-years: {count} is not a number of years; write 1, 2, 3 ...")
