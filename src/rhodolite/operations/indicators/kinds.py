"""Indicators as people name them, each with a threshold of its own if it is given one."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Self

from rhodolite.errors import nearest_names
from rhodolite.model.typed_value import TypedValue
from rhodolite.operations.indicators.definitions import (
    INDICATORS,
    Indicator,
    Result,
    heavy_rain,
)
from rhodolite.operations.indicators.work import DATE_ENDING

_HEAVY_RAIN = re.compile(r"r(\d+(?:\.\d+)?)mm")
_BY_LOWER_CASE = {name.lower(): name for name in INDICATORS}


@dataclass(frozen=True)
class IndicatorKind:
    """An indicator, and the threshold that was asked for."""

    name: str
    threshold: str = ""

    @classmethod
    def parse(cls, text: str) -> Self:
        typed, _, threshold = text.strip().partition(" ")
        if match := _HEAVY_RAIN.fullmatch(typed.lower()):
            name = f"R{match.group(1)}mm"
        elif typed.lower() in _BY_LOWER_CASE:
            name = _BY_LOWER_CASE[typed.lower()]
        else:
            offered = [*INDICATORS, "R25mm (any amount)"]
            raise ValueError(
                f"'{typed}' is not offered. {nearest_names(typed, offered)}"
            )
        kind = cls(name, threshold.strip())
        if kind.threshold and not kind.indicator.own_threshold:
            raise ValueError(
                f"'{text}': {name} has the threshold of its definition; write {name}"
            )
        return kind

    def __str__(self) -> str:
        return f"{self.name} {self.threshold}".strip()

    @property
    def indicator(self) -> Indicator:
        """Its definition."""
        match = _HEAVY_RAIN.fullmatch(self.name.lower())
        return heavy_rain(match.group(1)) if match else INDICATORS[self.name]

    @property
    def asked_threshold(self) -> str:
        """The threshold that holds: the one asked for, or that of the definition."""
        return self.threshold or self.indicator.threshold

    @property
    def result_names(self) -> list[str]:
        """The names of its results: a date stands with its day of the year."""
        name = self.variable_name
        if self.indicator.result is Result.DATE:
            return [name, f"{name}{DATE_ENDING}"]
        return [name]

    @property
    def variable_name(self) -> str:
        return re.sub(r"\W+", "_", str(self).replace("-", "_").replace(" ", "_"))


@dataclass(frozen=True)
class IndicatorKinds(TypedValue):
    """One or more indicators: `FD`, or `FD,SU 30degC,R25mm`."""

    kinds: tuple[IndicatorKind, ...]

    listed = True

    @classmethod
    def parse(cls, text: str) -> Self:
        kinds = tuple(IndicatorKind.parse(part) for part in str(text).split(","))
        if len(set(kinds)) < len(kinds):
            raise ValueError(f"'{text}' names an indicator twice")
        return cls(kinds)

    @property
    def sources(self) -> tuple[str, ...]:
        """Where the definitions come from."""
        named = [kind.indicator.source for kind in self.kinds]
        return tuple(source for source in named if source)

    def __str__(self) -> str:
        return ",".join(map(str, self.kinds))
