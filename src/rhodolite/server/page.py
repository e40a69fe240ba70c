"""The page at the root: which datasets there are, and under which addresses."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from rhodolite.model.time.time_labels import time_labels
from rhodolite.server.layers import layers_of
from rhodolite.server.served import Served
from rhodolite.version import __version__


def write_index(datasets: Mapping[str, Served], root: str = "") -> str:
    """Return the page.

    Parameters
    ----------
    datasets : mapping of str to Served
    root : str
        What stands before all addresses.
    """
    entries = [
        {
            "name": name,
            "title": served.title,
            "period": _period(served),
            "drawn": bool(layers_of(served)),
            "variables": [
                {"name": v.name, "quantity": v.quantity, "units": v.units or ""}
                for v in served.dataset.fields
            ],
        }
        for name, served in datasets.items()
    ]
    return write_page("index.html", datasets=entries, root=root)


def write_page(template: str, **words: Any) -> str:
    """Return a page or another document, with all that comes from files escaped.

    Parameters
    ----------
    template : str
        Name of its file.
    **words
        What it holds.
    """
    from jinja2 import Environment, PackageLoader, StrictUndefined

    environment = Environment(
        loader=PackageLoader("rhodolite.server", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    # With the version in their addresses, files that browsers keep are not those of an older one.
    return environment.get_template(template).render(release=__version__, **words)


def _period(served: Served) -> str:
    axis = served.dataset.time
    if axis is None or not len(axis):
        return ""
    labels = [time_labels(axis)[at] for at in axis.order[[0, -1]][: len(axis)]]
    return labels[0] if len(labels) == 1 else f"{labels[0]} to {labels[-1]}"
