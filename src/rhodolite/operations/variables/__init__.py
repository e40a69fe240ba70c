"""Which variables a verb works on, and what keeps their attributes and references true.

Cell methods, names and units after a statistic, and references to what is no longer there.
Never computes values.
"""
