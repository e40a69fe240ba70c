"""Changes of names and attributes as people write them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue

_NAME = re.compile(r"[A-Za-z_\d][^/\x00-\x1f\x7f]*")


@dataclass(frozen=True)
class Place(TypedValue):
    """An attribute of a variable (`pr:units`), of the dataset (`:title`), or a variable itself
    (`pr`)."""

    variable: str
    attribute: str | None

    @classmethod
    def parse(cls, text: str) -> Self:
        variable, colon, attribute = (word.strip() for word in text.partition(":"))
        if (colon and not attribute) or not (variable or attribute):
            raise ValueError(
                f"'{text}' names no attribute; write it like pr:units, or :title for the dataset's "
                "own"
            )
        return cls(variable, attribute if colon else None)

    def __str__(self) -> str:
        return (
            self.variable
            if self.attribute is None
            else f"{self.variable}:{self.attribute}"
        )


class _Repeated(TypedValue):
    """A parameter that can be given several times, each time with one text."""

    repeats = True


@dataclass(frozen=True)
class Settings(_Repeated):
    """Attributes and the text they are to have: `pr:units=mm day-1`, `:title=Rain of the north`."""

    pairs: tuple[tuple[Place, str], ...]

    @classmethod
    def parse(cls, texts: str | Sequence[str]) -> Self:
        pairs = []
        for text in [texts] if isinstance(texts, str) else texts:
            place, equals, value = text.partition("=")
            if not equals or ":" not in place:
                raise ValueError(
                    f"'{text}' sets nothing; write it like 'pr:units=mm day-1' or ':title=My data'"
                )
            pairs.append((Place.parse(place), value.strip()))
        return cls(tuple(pairs))

    def texts(self) -> list[str]:
        return [f"{place}={value}" for place, value in self.pairs]


@dataclass(frozen=True)
class Removals(_Repeated):
    """Attributes and variables to take away: `pr:comment`, `:history`, `crs`."""

    places: tuple[Place, ...]

    @classmethod
    def parse(cls, texts: str | Sequence[str]) -> Self:
        return cls(
            tuple(
                Place.parse(text)
                for text in ([texts] if isinstance(texts, str) else texts)
            )
        )

    def texts(self) -> list[str]:
        return [str(place) for place in self.places]


@dataclass(frozen=True)
class Renames(_Repeated):
    """Variables, dimensions and attributes, and their new names: `tp=pr`, `pr:unit=units`."""

    pairs: tuple[tuple[Place, str], ...]

    @classmethod
    def parse(cls, texts: str | Sequence[str]) -> Self:
        pairs = []
        for text in [texts] if isinstance(texts, str) else texts:
            old, equals, new = (word.strip() for word in text.partition("="))
            if not equals or not old:
                raise ValueError(f"'{text}' renames nothing; write it like tp=pr")
            if not _NAME.fullmatch(new) or ":" in new:
                raise ValueError(
                    f"'{new}' cannot be a name; use letters, digits and _, beginning with a letter"
                )
            pairs.append((Place.parse(old), new))
        return cls(tuple(pairs))

    def texts(self) -> list[str]:
        return [f"{place}={new}" for place, new in self.pairs]
