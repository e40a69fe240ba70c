"""Numbers that stand for classes, and the words for them (CF 3.5)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import numpy as np

from rhodolite.arrays import Array
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
    numbers = {
        key: listed
        for key in (_VALUES, _MASKS)
        if (listed := _numbers_in(variable, key)) is not None
    }
    values = numbers.get(_VALUES, variable.attributes.get(_VALUES, ()))
    words = _words_in(variable, np.size(values))
    return numbers if words is None else {**numbers, _MEANINGS: words}


def _numbers_in(variable: Variable, key: str) -> Array | None:
    """Return the numbers that a text lists; None where the attribute is no such text."""
    text, dtype = variable.attributes.get(key), variable.data.dtype
    if not isinstance(text, str) or dtype.kind not in "fiu":
        return None
    parts = re.split(r"[\s,;]+", text.strip().strip("[]{}()"))
    listed = [_NUMBER_IN_TEXT.fullmatch(part) for part in parts]
    numbers = [int(number[1]) for number in listed if number is not None]
    return np.array(numbers, dtype) if len(numbers) == len(parts) else None


def _words_in(variable: Variable, count: int) -> str | None:
    """Return so many words with blanks between them; None where no commas stand there."""
    text = variable.attributes.get(_MEANINGS)
    if not isinstance(text, str) or not re.search(r"[,;]", text):
        return None
    words = [part.split() for part in re.split(r"[,;]", text.strip(" ,;"))]
    return " ".join(map("_".join, words)) if len(words) == count else None


def words_of_classes(variable: Variable) -> Mapping[float, str]:
    """Return the words for the numbers of classes, in the order of the numbers; none where values
    are quantities, or flags of which each is a bit."""
    numbers = np.atleast_1d(variable.attributes.get(_VALUES, ()))
    meanings = str(variable.attributes.get(_MEANINGS, "")).split()
    if len(numbers) != len(meanings) or _MASKS in variable.attributes:
        return {}
    order = np.argsort(numbers, kind="stable")
    return {float(numbers[at]): meanings[at].replace("_", " ") for at in order}
