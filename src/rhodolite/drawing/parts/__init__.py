"""What pictures share: canvas, map frame, colours, legends, axes, titles, the choice of a part.

One idea each, used by the modules of `plots`.
Never declares options, and never draws a whole picture.
"""
