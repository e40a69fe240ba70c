"""Chains from inputs to an output: what is read, what is planned, what is written, and on record.

The only room that opens files for operations and writes what they make.
Never parses a command line, and never prints.
"""
