"""Defaults of run options: from the environment, and from the user's configuration file."""

from __future__ import annotations

import os
import tomllib
from functools import cache
from pathlib import Path
from typing import NamedTuple

from rhodolite.errors import UsageError, nearest_names

NAMES = ("memory", "workers", "compression", "scratch")
"""Run options that can have a default of the user's own."""


class Setting(NamedTuple):
    """A default, and where it was said."""

    text: str
    origin: str


def configuration_file() -> Path:
    """Return where the user's configuration file is looked for."""
    from platformdirs import user_config_path

    return user_config_path("rhodolite") / "config.toml"


def find_setting(name: str) -> Setting | None:
    """Return the user's default of a run option: of the environment first, then of the file.

    Parameters
    ----------
    name : {"memory", "workers", "compression", "scratch"}

    Raises
    ------
    UsageError
        If the configuration file cannot be read, or names something else.
    """
    variable = f"RHODOLITE_{name.upper()}"
    text = os.environ.get(variable, "").strip()
    if text:
        return Setting(text, variable)
    return _read_configuration(configuration_file()).get(name)


@cache
def _read_configuration(path: Path) -> dict[str, Setting]:
    try:
        entries = tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise UsageError(f"{path}: the configuration cannot be read: {error}") from None
    for name, value in entries.items():
        if name not in NAMES:
            raise UsageError(
                f"{path}: there is no setting '{name}'. {nearest_names(name, NAMES)}"
            )
        if isinstance(value, bool) or not isinstance(value, (str, int)):
            raise UsageError(f"{path}: '{name}' has to be text or a whole number")
    return {
        name: Setting(str(value), f"{path}: {name}") for name, value in entries.items()
    }
