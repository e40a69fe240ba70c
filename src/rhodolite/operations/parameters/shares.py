"""Numbers between limits: shares from 0 to 1, and numbers of years."""

from __future__ import annotations

from rhodolite.errors import UsageError


def check_coverage(share: float) -> None:
    """Refuse a --min-coverage that is not a fraction.

    Parameters
    ----------
    share : float
        Of a period, that has to be there.
    """
    if not 0 <= share <= 1:
        raise UsageError(
            f"--min-coverage: '{share:g}' is not a fraction between 0 and 1; write a number from 0 "
            "to 1, such as 0.8"
        )


def check_years(count: int) -> None:
    """Refuse a --min-years that is not a number of years."""
    if count < 1:
        raise UsageError(
            f"--min-years: {count} is not a number of years; write 1, 2, 3 ..."
        )


def check_share(option: str, share: float) -> None:
    """Refuse a share of 0 or 1, beyond which nothing, or all, lies.

    Parameters
    ----------
    option : str
        As it is typed.
    share : float
    """
    if not 0 < share < 1:
        raise UsageError(
            f"{option} {share:g}: write a number between 0 and 1, such as 0.95 or 0.05"
        )


def check_pool(count: int) -> None:
    """Refuse a --pool that has no middle."""
    if count < 1 or count % 2 == 0:
        raise UsageError(
            f"--pool {count}: a window has a middle if it is an odd number of phases, such as 5"
        )
