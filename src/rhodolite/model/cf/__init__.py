"""What CF says of names: standard names, the words of attributes, quantities that pivot on zero.

The lists that several rooms need stand in `vocabulary` and nowhere else.
Never touches values.
"""
