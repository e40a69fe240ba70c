"""Formulas: text to a tree (`parser`), a tree to a program over blocks (`compiler`).

Units are checked on the way, and nothing of a formula is ever run as Python.
Never looks at files or options.
"""
