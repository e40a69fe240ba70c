"""Studies: files that say from which inputs, by which steps, which outputs are made.

A study is a TOML file. `description` reads it, `graph` makes of it what is to be computed, `run`
computes it, and `record` writes the study that a chain stands for.
"""
