"""Calendar time: axes of time, the cells of their steps, intervals, and periods as text.

Every CF calendar, in exact numbers of seconds where they are whole.
Never computes statistics.
"""
