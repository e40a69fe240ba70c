"""The Python face: datasets with the verbs as methods, and files read into them and written.

It stands on top of everything but the command line, and everything below does without it. Verbs
become methods by their declarations; their signatures stand for editors in `verbs.pyi`, which
`python tools/make_stub.py` writes.

In examples `data` are temperatures of two latitudes, `folder` is an empty folder, and `recipe` a
study that copies them.
"""
