"""Indicators of daily weather: their definitions, the variables that they need, and the work on
whole series."""
