"""Numbers that stand for classes, and the words for them (CF 3.5)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import numpy as np

from rhodolite.model.variable import Variable

_NUMBER_IN_TEXT = re.compile(r"([-+]?\d+)(?:[bBsSlLuU]*)")
"""As others write lists of numbers into text: `0b, 1b` or `0 1`."""
_VALUES, _MASKS, _MEANINGS = "flag_values", "flag_masks", "flag_meanings"


def spell_classes(variable: Variable) -> Variable:
    """Return a variable whose numbers of classes are numbers of the type of its values, and whose
    words are separated by blanks, where others write `0b, 1b` and `good, bad`."""
    changed = misspelled_classes(variable)
    return variable.edit(**changed) if changed else variable


def misspelled_classes(variable: Variable) -> dict[str, Any]:
    """Return the attributes of classes that have another form than CF has, in that of CF."""
    about = variable.attributes
    changed: dict[str, Any] = {}
    dtype = variable.data.dtype
    for key in (_VALUES, _MASKS):
        text = about.get(key)
        if isinstance(text, str) and dtype.kind in "fiu":
            words = re.split(r"[\s,;]+", text.strip().strip("[]{}()"))
            numbers = [_NUMBER_IN_TEXT.fullmatch(word) for word in words]
            if numbers and all(numbers):
                changed[key] = np.array([int(n[1]) for n in numbers if n], dtype)
    meanings = about.get(_MEANINGS)
    if isinstance(meanings, str) and re.search(r"[,;]", meanings):
        words = [part.strip() for part in re.split(r"[,;]", meanings.strip(" ,;"))]
        if len(words) == np.size(changed.get(_VALUES, about.get(_VALUES, ()))):
            changed[_MEANINGS] = " ".join("_".join(word.split()) for word in words)
    return changed


def words_of_classes(variable: Variable) -> Mapping[float, str]:
    """Return the words for the numbers of classes, in the order of the numbers; none where values
    are quantities, or flags of which each is a bit."""
    numbers = np.atleast_1d(variable.attributes.get(_VALUES, ()))
    meanings = str(variable.attributes.get(_MEANINGS, "")).split()
    if len(numbers) != len(meanings) or _MASKS in variable.attributes:
        return {}
    order = np.argsort(numbers, kind="stable")
    return {float(numbers[at]): meanings[at].replace("_", " ") for at in order}
