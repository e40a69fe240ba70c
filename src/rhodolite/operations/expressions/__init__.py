"""Formulas: text to a tree (`parser`) and back (`writer`), a tree to a program over blocks
(`compiler`) and to the variable that it makes (`calculation`).

Units are checked on the way, and nothing of a formula is ever run as Python.
Never looks at files or options.
"""
