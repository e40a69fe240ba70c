"""Units: what UDUNITS understands, what people write, and conversion of variables.

Temperature differences, and water by mass or by depth, are told apart here.
Never changes data; conversions are functions that others apply to blocks.
"""
