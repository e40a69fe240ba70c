"""What a check finds."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Severity(StrEnum):
    """Severity a finding is."""

    ERROR = "error"
    WARNING = "warning"
    ADVICE = "advice"


@dataclass(frozen=True)
class Finding:
    """One thing that is wrong.

    Parameters
    ----------
    severity : Severity
        An error breaks a rule of CF, a warning keeps others from using the data, advice would help
        them.
    where : str
        The variable, dimension or attribute.
    what : str
        What is wrong, in one sentence.
    rule : str
        The section of CF or the standard that says so.
    settings : tuple of (str, str)
        What `annotate` is given to repair it: pairs of an option and its value.
    advice : str
        How to repair it where `annotate` alone cannot.
    """

    severity: Severity
    where: str
    what: str
    rule: str
    settings: tuple[tuple[str, str], ...] = ()
    advice: str = ""


def error(
    where: str, what: str, rule: str, *settings: tuple[str, str], advice: str = ""
) -> Finding:
    """Return a finding that breaks a rule of CF.

    Parameters
    ----------
    where : str
        Name of the variable, or ``dataset``.
    what : str
        What is wrong, in words.
    rule : str
        Section of the conventions.
    advice : str
        How to repair it where `annotate` alone cannot.
    """
    return Finding(Severity.ERROR, where, what, rule, settings, advice)


def warning(
    where: str, what: str, rule: str, *settings: tuple[str, str], advice: str = ""
) -> Finding:
    """Return a finding that keeps others from using the data.

    Parameters are those of `error`.
    """
    return Finding(Severity.WARNING, where, what, rule, settings, advice)


def advice(
    where: str, what: str, rule: str, *settings: tuple[str, str], advice: str = ""
) -> Finding:
    """Return a finding that others would be helped by.

    Parameters are those of `error`.
    """
    return Finding(Severity.ADVICE, where, what, rule, settings, advice)
