"""Verbs, pictures and formats that other installed packages offer, by entry points."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING, Any

from rhodolite.errors import UsageError

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

OPERATIONS, DRAWINGS, FORMATS = (
    "rhodolite.operations",
    "rhodolite.drawings",
    "rhodolite.formats",
)
"""Groups of entry points; what each names is an `Operation`, a `Drawing` or a `Format`."""


@cache
def find_extensions(group: str) -> dict[str, EntryPoint]:
    """Return what other packages offer, by name.

    Parameters
    ----------
    group : str
        One of the groups above.
    """
    from importlib.metadata import entry_points  # which takes long to import

    return {point.name: point for point in entry_points(group=group)}


def load_extension(group: str, name: str, kind: type) -> Any:
    """Return what another package offers under a name.

    Parameters
    ----------
    group, name : str
    kind : type
        Of which it has to be an instance, or a class below it.

    Raises
    ------
    UsageError
        If it cannot be imported, or is something else.
    """
    point = find_extensions(group)[name]
    package = point.dist.name if point.dist is not None else point.value
    try:
        loaded = point.load()
    except Exception as error:
        raise UsageError(
            f"'{name}' of the package {package} cannot be loaded ({type(error).__name__}: {error})"
        ) from error
    fits = (
        issubclass(loaded, kind)
        if isinstance(loaded, type)
        else isinstance(loaded, kind)
    )
    if not fits:
        raise UsageError(
            f"'{name}' of the package {package} ({point.value}) is no {kind.__name__}"
        )
    return loaded
