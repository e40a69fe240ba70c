"""What notebooks show: datasets with their attributes folded, and how far work has come."""

from __future__ import annotations

import html
import sys
from collections.abc import Mapping
from typing import Any


def attributes_html(title: str, attributes: Mapping[str, Any]) -> str:
    """Return attributes as a table that is folded away until somebody opens it.

    Parameters
    ----------
    title : str
    attributes : mapping
    """
    if not attributes:
        return ""
    rows = "".join(
        f"<tr><td>{html.escape(str(name))}</td><td>{html.escape(str(value))}</td></tr>"
        for name, value in attributes.items()
    )
    summary = html.escape(f"{title}: {len(attributes)} attributes")
    return f"<details><summary>{summary}</summary><table>{rows}</table></details>"


class ReplacedText:
    """A line of text in a notebook that is replaced by the next one; nothing elsewhere."""

    def __init__(self) -> None:
        self._shown: Any = None

    def show(self, text: str) -> None:
        """Show a line in the place of the one before.

        Parameters
        ----------
        text : str
        """
        if self._shown is not None:
            self._shown.update({"text/plain": text}, raw=True)
        elif text and (display := _find_display()) is not None:
            self._shown = display({"text/plain": text}, raw=True, display_id=True)

    def clear(self) -> None:
        """Leave an empty line, and begin anew next time."""
        self.show("")
        self._shown = None


def _find_display() -> Any:
    """Return what shows things in a notebook; None where Python does not run in one."""
    shell = sys.modules.get("IPython")
    running = shell.get_ipython() if shell is not None else None
    if running is None or not hasattr(running, "kernel"):
        return None
    from IPython.display import display

    return display
