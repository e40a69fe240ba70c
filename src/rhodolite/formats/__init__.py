"""Reading and writing files in open formats, one module or package per format.

Also what all of them need: opening patterns, putting files together, repairing metadata, layout.
Nothing here knows about operations, chains or figures.
"""
