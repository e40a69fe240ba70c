"""The page at the root: which datasets there are, and under which addresses."""

from __future__ import annotations

from collections.abc import Mapping

from rhodolite.model.time.time_labels import time_labels
from rhodolite.server.served import Served


def write_index(datasets: Mapping[str, Served]) -> str:
    """Return the page.

    Parameters
    ----------
    datasets : mapping of str to Served
    """
    from jinja2 import Environment, PackageLoader, StrictUndefined

    environment = Environment(
        loader=PackageLoader("rhodolite.server", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    held = [
        {
            "name": name,
            "title": one.title,
            "period": _period(one),
            "variables": [
                {"name": v.name, "quantity": v.quantity, "units": v.units or ""}
                for v in one.dataset.fields
            ],
        }
        for name, one in datasets.items()
    ]
    return environment.get_template("index.html").render(datasets=held)


def _period(served: Served) -> str:
    axis = served.dataset.time
    if axis is None or not len(axis):
        return ""
    labels = time_labels(axis)
    return labels[0] if len(labels) == 1 else f"{labels[0]} to {labels[-1]}"
