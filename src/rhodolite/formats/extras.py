"""Libraries that only some formats need, and how they are installed."""

from __future__ import annotations

import importlib.util
from pathlib import Path

from rhodolite.errors import DataError

_PACKAGES = {
    "grib": ("eccodes", "pyproj"),
    "geotiff": ("rasterio", "pyproj"),
    "remote": ("obstore",),
    "tables": ("pyarrow", "openpyxl"),
}


def install_command(extra: str) -> str:
    """Return what to type to have the libraries of an extra."""
    return f"pip install 'rhodolite[{extra}]'"


def has_extra(extra: str) -> bool:
    """Return whether all libraries of an extra are installed."""
    return all(importlib.util.find_spec(name) for name in _PACKAGES[extra])


def need_extra(extra: str, path: Path, format_name: str) -> None:
    """Refuse a file whose format needs libraries that are not installed.

    Raises
    ------
    DataError
        With what to type.
    """
    if not has_extra(extra):
        raise DataError(
            f"{path}: {format_name} needs an extra package: {install_command(extra)}"
        )
