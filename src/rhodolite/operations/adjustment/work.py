"""The adjustment of whole series, phase by phase of the year and cell by cell."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, SeriesKernel
from rhodolite.errors import warn
from rhodolite.kernels.quantile_mapping import (
    map_changes,
    map_quantiles,
    map_without_change,
    shift_and_scale,
    shift_mean,
)

Indices = NDArray[np.intp]


class Method(StrEnum):
    """How values are adjusted."""

    MEAN = "mean"
    SPREAD = "mean-and-spread"
    QUANTILES = "quantiles"
    CHANGES = "quantile-changes"
    DETRENDED = "detrended-quantiles"


class Fit(StrEnum):
    """Which distribution quantiles are of."""

    EMPIRICAL = "empirical"
    GAMMA = "gamma"


@dataclass(frozen=True)
class Rule:
    """How values are adjusted.

    Attributes
    ----------
    method : Method
    ratio : bool
        Whether by ratios, and not by differences.
    fit : Fit
        Which distribution quantiles are of.
    trace : float
        Values below it are none, and are mapped as random amounts below it; 0 leaves that out.
    coverage : float
        Share of the values of training that has to be there.
    """

    method: Method
    ratio: bool
    fit: Fit
    trace: float
    coverage: float


@dataclass(frozen=True, eq=False)
class Phase:
    """Which steps belong together.

    Attributes
    ----------
    steps : ndarray of int
        Of the model, that are adjusted.
    own, trained, observed : ndarray of int
        Steps of the model, of its training and of the observations that set the distributions.
    """

    steps: Indices
    own: Indices
    trained: Indices
    observed: Indices


@dataclass
class Adjustment(SeriesKernel):
    """The adjusted values of a model, from its own, those of training, and observations, one after
    another along time.

    `places` says where each of these steps stands in the order of time, which random amounts go by.
    """

    label: str
    axis: int
    sizes: tuple[int, int, int]
    phases: Sequence[Phase]
    rule: Rule
    seed: int
    places: Indices

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {"value": ((self.sizes[0],), np.dtype("f8"))}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        cells = block.shape[1:]
        values = block.reshape(len(block), -1).astype(np.float64)
        if self.rule.trace > 0:
            values = self._with_traces(values)
        parts = np.split(values, np.cumsum(self.sizes)[:2])
        gaps = bool(np.isnan(values).any())
        result = np.full(parts[0].shape, np.nan)
        for phase in self.phases:
            result[phase.steps] = self._adjust(phase, *parts, gaps=gaps)
        known = ~np.isnan(parts[0])
        lacking = int((known & np.isnan(result)).sum())
        if self.rule.trace > 0:
            result[result < self.rule.trace] = 0.0
        shaped = result.reshape(self.sizes[0], *cells)
        return {"value": shaped}, Counter(lacking=lacking, of=int(known.sum()))

    def _adjust(
        self,
        phase: Phase,
        model: Array,
        trained: Array,
        observed: Array,
        *,
        gaps: bool,
    ) -> Array:
        """Return the adjusted values of a phase, missing where too little is known."""
        values, own = model[phase.steps], model[phase.own]
        before, truth = trained[phase.trained], observed[phase.observed]
        enough = np.ones(values.shape[1], dtype=bool)
        for sample in (before, truth):
            count = (~np.isnan(sample)).sum(axis=0) if gaps else len(sample)
            enough &= count >= max(self.rule.coverage * len(sample) - 1e-9, 2)
        return np.where(enough, self._map(values, own, before, truth), np.nan)

    def _map(self, values: Array, own: Array, before: Array, truth: Array) -> Array:
        rule = self.rule
        if rule.method is Method.CHANGES:
            return map_changes(values, own, before, truth, ratio=rule.ratio)
        if rule.method is Method.DETRENDED:
            return map_without_change(values, own, before, truth, ratio=rule.ratio)
        if rule.method is Method.QUANTILES:
            gamma = rule.fit is Fit.GAMMA
            return map_quantiles(values, before, truth, ratio=rule.ratio, gamma=gamma)
        work = shift_mean if rule.method is Method.MEAN else shift_and_scale
        return work(values, before, truth, ratio=rule.ratio)

    def _with_traces(self, values: Array) -> Array:
        """Return values of which those that are none are random amounts below the trace, the same
        at every cell (Cannon and others 2015, section 2)."""
        random = np.random.default_rng(self.seed)
        amounts = self.rule.trace * (1 - random.random(len(values)))[self.places]
        return np.where(values < self.rule.trace, amounts[:, None], values)

    def report(self, counts: Counter[str]) -> None:
        if counts["lacking"]:
            warn(
                f"{self.label}: {counts['lacking']:,} of {counts['of']:,} values are missing, "
                "since too few values of the training or of the observations are there; "
                "--min-coverage says how many are needed"
            )
