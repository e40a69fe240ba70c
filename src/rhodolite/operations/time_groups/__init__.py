"""Statistics of groups of steps: periods, their completeness, totals, and lazy results.

The rule that a season or a year needs its months is in `periods`.
Never decides which statistic; `parameters.statistic` says it.
"""
