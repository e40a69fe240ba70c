"""Fields put in order: which are of one variable, and which variables share their axes."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import cached_property
from itertools import pairwise

from rhodolite.formats.grib.keys import Keys
from rhodolite.formats.grib.times import Moment, start_of

_GROUP_WORDS = {"instant": "instants", "accum": "sums", "avg": "means"}
_LEAST_SHARE = 0.5
"""Of the times that variables have to share to lie along the same axis, where neither has all of
the other's."""


@dataclass
class Series:
    """The fields of one variable.

    Parameters
    ----------
    name : str
    members : list of (int, Keys)
        Numbers of the fields in the file, and what they say.
    """

    name: str
    members: list[tuple[int, Keys]] = field(default_factory=list)

    @property
    def first(self) -> Keys:
        return self.members[0][1]

    @cached_property
    def moments(self) -> set[Moment]:
        return {Moment.of(keys) for _, keys in self.members}

    @cached_property
    def intervals(self) -> dict[datetime, set[datetime]]:
        """When the intervals begin that end at a time."""
        starts: dict[datetime, set[datetime]] = defaultdict(set)
        for _, keys in self.members:
            begin = start_of(keys)
            if begin is not None:
                starts[Moment.of(keys).valid].add(begin)
        return starts

    @cached_property
    def overlaps(self) -> bool:
        """Whether intervals overlap, as those since the start of a forecast do."""
        spans = sorted(
            (begin, end) for end, begins in self.intervals.items() for begin in begins
        )
        return any(after[0] < before[1] for before, after in pairwise(spans))

    @cached_property
    def starts(self) -> dict[datetime, set[datetime]]:
        """When the cells begin that end at a time; intervals that overlap are none."""
        return {} if self.overlaps else self.intervals

    @cached_property
    def interval_comment(self) -> str:
        """What there is to say of intervals that overlap, for cell methods."""
        if not self.overlaps:
            return ""
        whole = all(keys.start == 0 for _, keys in self.members)
        return (
            "since the start of the forecast" if whole else "of intervals that overlap"
        )


@dataclass
class Family:
    """Variables on one grid and along the same times.

    Parameters
    ----------
    series : list of Series
    """

    series: list[Series]

    def accepts(self, other: Series) -> bool:
        """Return whether a variable fits: its grid and its intervals are those of the others, and
        its times as well, or most of them."""
        ours, theirs = self.moments, other.moments
        shared = len(ours & theirs)
        within = shared == min(len(ours), len(theirs))
        enough = within or shared >= _LEAST_SHARE * max(len(ours), len(theirs))
        alike = other.first.grid == self.series[0].first.grid
        return alike and enough and self._cells_agree(other)

    def _cells_agree(self, other: Series) -> bool:
        """Return whether the intervals of both can be the cells of one axis: a time without an
        interval would have a cell without width."""
        ours, theirs = self.starts, other.starts
        if not ours and not theirs:
            return True
        differ = any(ours[time] != theirs[time] for time in ours.keys() & theirs.keys())
        times = {moment.valid for moment in self.moments | other.moments}
        return not differ and times <= ours.keys() | theirs.keys()

    @property
    def moments(self) -> set[Moment]:
        return set().union(*(series.moments for series in self.series))

    @property
    def starts(self) -> dict[datetime, set[datetime]]:
        return {
            time: begins
            for series in self.series
            for time, begins in series.starts.items()
        }

    @property
    def overlaps(self) -> bool:
        """Whether several forecasts are of one time."""
        return len({moment.valid for moment in self.moments}) < len(self.moments)

    def choose(
        self, reference: datetime | None = None, lead: timedelta | None = None
    ) -> Family:
        """Return the part of one run, or of one lead."""
        parts = []
        for series in self.series:
            members = [
                (number, keys)
                for number, keys in series.members
                if reference in (None, Moment.of(keys).reference)
                and lead in (None, Moment.of(keys).lead)
            ]
            if members:
                parts.append(Series(series.name, members))
        return Family(parts)

    @property
    def word(self) -> str:
        """What its group is called."""
        kinds = dict.fromkeys(series.first.step_kind for series in self.series)
        return "_and_".join(_GROUP_WORDS.get(kind, kind) for kind in kinds)


def gather_series(fields: Sequence[Keys]) -> list[Series]:
    """Return the variables that fields are of, in the order of the file.

    Of several that would be called alike, each has the kind of its level or step in its name.
    """
    series: dict[tuple[str, str, str, str], Series] = {}
    for number, keys in enumerate(fields):
        identity = keys.name, keys.level_kind, keys.step_kind, keys.grid
        gathered = series.setdefault(identity, Series(keys.name))
        gathered.members.append((number, keys))
    levels: dict[str, set[str]] = defaultdict(set)
    steps: dict[tuple[str, str], set[str]] = defaultdict(set)
    for name, level, step, _ in series:
        levels[name].add(level)
        steps[name, level].add(step)
    for (name, level, step, _), gathered in series.items():
        if len(levels[name]) > 1:
            gathered.name += f"_{_snake(level)}"
        if len(steps[name, level]) > 1:
            gathered.name += f"_{step}"
    return [part for gathered in series.values() for part in _split_intervals(gathered)]


def _split_intervals(series: Series) -> list[Series]:
    """Return a variable as it is; as two where some of its times end both an interval since the
    start of the forecast and a shorter one."""
    if all(len(begins) == 1 for begins in series.intervals.values()):
        return [series]
    latest: dict[tuple[object, ...], int] = defaultdict(int)
    for _, keys in series.members:
        latest[_place(keys)] = max(latest[_place(keys)], keys.start)
    whole = [(n, keys) for n, keys in series.members if keys.start == 0]
    short = [
        (n, keys) for n, keys in series.members if keys.start == latest[_place(keys)]
    ]
    return [Series(f"{series.name}_since_start", whole), Series(series.name, short)]


def _place(keys: Keys) -> tuple[object, ...]:
    return Moment.of(keys), keys.level, keys.layer_end, keys.member


def _snake(words: str) -> str:
    """Return words as they are joined in names: heightAboveGround as height_above_ground."""
    return re.sub(r"(?<=[a-z])(?=[A-Z])", "_", words).lower()


def gather_families(series: Sequence[Series]) -> dict[str, Family]:
    """Return which variables share their axes, by the names of their groups.

    Forecasts that overlap, of which several are of one time, are there once by their start and once
    by how long they had run.
    """
    families: list[Family] = []
    for candidate in series:
        home = next((known for known in families if known.accepts(candidate)), None)
        if home is None:
            families.append(Family([candidate]))
        else:
            home.series.append(candidate)
    words = Counter(family.word for family in families)
    numbers: Counter[str] = Counter()
    named: dict[str, Family] = {}
    for family in families:
        numbers[family.word] += 1
        alone = words[family.word] == 1
        name = family.word if alone else f"{family.word}_{numbers[family.word]}"
        if family.overlaps:
            before = "" if len(families) == 1 else f"{name}_"
            named |= {f"{before}{key}": part for key, part in _parts(family).items()}
        else:
            named[name] = family
    return named


def _parts(family: Family) -> dict[str, Family]:
    """Return the parts of forecasts that overlap: each run, and each lead of all runs."""
    parts: dict[str, Family] = {}
    moments = sorted(family.moments, key=lambda moment: (moment.reference, moment.lead))
    for moment in moments:
        name = f"run_{moment.reference:%Y-%m-%dT%H}"
        parts.setdefault(name, family.choose(reference=moment.reference))
    for lead in sorted({moment.lead for moment in moments}):
        parts[f"lead_{lead.total_seconds() / 3600:g}h"] = family.choose(lead=lead)
    return parts
