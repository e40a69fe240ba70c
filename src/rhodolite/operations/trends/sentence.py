"""The trend of a series in words."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Engine
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable
from rhodolite.operations.trends.estimators import Test, TrendSpec


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
            v.name.removeprefix(f"{self.variable.name}_"): float(v.values(engine).reshape(-1)[0])
            for v in self.found
        }
        slope, spec = values["trend"], self.spec
        if np.isnan(slope):
            return (
                f"{self.variable.name}: no trend could be estimated, since there are too few values"
            )
        low, high = values.get("trend_lower", np.nan), values.get("trend_upper", np.nan)
        numbers = [f"{value:.3g}" for value in (slope, low, high)]
        sign = "+" if slope > 0 else ""
        text = (
            f"{self.variable.name}: {sign}{numbers[0]} "
            f"{pretty(self.found[0].units) or f'per {self.per}'}"
        )
        share = f"{100 * (1 - spec.alpha):.3g} %"
        text += f", {share} interval {numbers[1]} to {numbers[2]}, {p_text(values['trend_pvalue'])}"
        second = float(self.other_pvalue.values(engine).reshape(-1)[0])
        agree = (second < spec.alpha) == (values["trend_pvalue"] < spec.alpha)
        name = "Mann-Kendall" if spec.test is Test.T else "the t test"
        return f"{text}, {name} {'agrees' if agree else 'does not agree'} ({p_text(second)})"


def p_text(pvalue: float) -> str:
    """Write a p-value as people do, such as p < 0.001.

    Parameters
    ----------
    pvalue : float
    """
    return "p < 0.001" if pvalue < 0.001 else f"p = {pvalue:.2g}"
