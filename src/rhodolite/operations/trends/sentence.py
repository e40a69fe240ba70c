"""The trend of a series in words."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Engine
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable
from rhodolite.operations.trends.false_discovery import discovery_limit
from rhodolite.operations.trends.spec import Test, TrendSpec
from rhodolite.plain_text import write_rounded


@dataclass(frozen=True, eq=False)
class TrendSentence:
    """The trend of a single series, in words and numbers."""

    spec: TrendSpec
    per: str
    variable: Variable
    found: tuple[Variable, ...]
    other_pvalue: Variable

    def text(self, engine: Engine) -> str:
        """Return a sentence with slope, interval, p-value and what the other test says."""
        values = {
            v.name.removeprefix(f"{self.variable.name}_"): float(
                v.values(engine).reshape(-1)[0]
            )
            for v in self.found
        }
        slope, spec = values["trend"], self.spec
        if np.isnan(slope):
            return (
                f"{self.variable.name}: no trend could be estimated, since there are "
                "too few values"
            )
        low, high = values.get("trend_lower", np.nan), values.get("trend_upper", np.nan)
        numbers = [write_rounded(value, 3) for value in (slope, low, high)]
        sign = "+" if slope > 0 else ""
        text = (
            f"{self.variable.name}: {sign}{numbers[0]} "
            f"{pretty(self.found[0].units) or f'per {self.per}'}"
        )
        share = f"{100 * (1 - spec.alpha):.3g} %"
        persistence = _persistence_text(values)
        if np.isnan(values["trend_pvalue"]):
            return f"{text}, too few independent values for a test{persistence}"
        text += f", {share} interval {numbers[1]} to {numbers[2]}, {p_text(values['trend_pvalue'])}"
        second = float(self.other_pvalue.values(engine).reshape(-1)[0])
        if np.isnan(second):
            return text + persistence
        agree = (second < spec.alpha) == (values["trend_pvalue"] < spec.alpha)
        name = "Mann-Kendall" if spec.test is Test.T else "the t test"
        judged = "agrees" if agree else "does not agree"
        return f"{text}, {name} {judged} ({p_text(second)}){persistence}"


def _persistence_text(values: dict[str, float]) -> str:
    """Say how serially correlated the values are, as far as that was looked at."""
    r = values.get("trend_autocorrelation")
    if r is None:
        return ""
    worth = values.get("trend_effective_size")
    independent = "" if worth is None else f", worth {worth:,.0f} independent values"
    return f"\n  lag-1 autocorrelation {r:.2f}{independent}"


@dataclass(frozen=True, eq=False)
class TrendMapRemark:
    """How many cells of a map have a significant trend, and how many would by chance."""

    name: str
    alpha: float
    pvalue: Variable

    def text(self, engine: Engine) -> str:
        """Return a sentence with counts of cells."""
        pvalues = self.pvalue.values(engine).reshape(-1)
        pvalues = pvalues[~np.isnan(pvalues)]
        content = int((pvalues < self.alpha).sum())
        limit = discovery_limit(pvalues, self.alpha)
        return (
            f"{self.name}: {content:,} of {pvalues.size:,} cells have a trend with p < "
            f"{self.alpha:g}; about {self.alpha * pvalues.size:,.0f} would by chance alone, and "
            f"{int((pvalues < limit).sum()):,} are left with the false discovery rate held at "
            f"{self.alpha:g} (--false-discovery)"
        )


def p_text(pvalue: float) -> str:
    """Write a p-value as people do, such as p < 0.001."""
    return "p < 0.001" if pvalue < 0.001 else f"p = {pvalue:.2g}"
