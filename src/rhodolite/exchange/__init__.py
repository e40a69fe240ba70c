"""To and from what others hold in memory: NumPy arrays (`arrays`, `coordinates`) and pandas tables
(`frames`).

Checks shapes, names and units, and says what fits where they do not.
Never reads or writes files.
"""
