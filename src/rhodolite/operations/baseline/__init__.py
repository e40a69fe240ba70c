"""What normal is: base periods, climatologies to refer to, smoothing, drought indices.

The rule how many years of a base are needed is in `base_period`.
Never writes anything into attributes; that is done by the verbs.
"""
