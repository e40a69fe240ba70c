"""Two or more datasets side by side: same cells, same times, members, tables of differences.

Whether they can be calculated with is decided here, with a message that says what differs.
Never interpolates; regrid and relevel do.
"""
