"""The offset of local from universal time, as the value of an option."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue

_OFFSET = re.compile(r"(?:UTC)?([+-])(\d{1,2})(?::?(\d{2}))?")
_MOST = 14 * 60
"""Minutes; nowhere is further from universal time."""


@dataclass(frozen=True)
class UtcOffset(TypedValue):
    """By how many minutes local time is ahead of universal time: `+09:00`, `-3`."""

    minutes: int

    @classmethod
    def parse(cls, text: str) -> Self:
        given = str(text).strip()
        fitting = _OFFSET.fullmatch(given)
        if fitting is None:
            raise ValueError(
                f"'{text}' is not an offset from universal time; write it like +09:00 or -03:30"
            )
        sign, hours, minutes = fitting.groups()
        total = int(hours) * 60 + int(minutes or 0)
        if total > _MOST or int(minutes or 0) > 59:
            raise ValueError(f"'{text}' is further from universal time than any place")
        return cls(-total if sign == "-" else total)

    def __str__(self) -> str:
        hours, minutes = divmod(abs(self.minutes), 60)
        return f"{'-' if self.minutes < 0 else '+'}{hours:02d}:{minutes:02d}"
