"""Chains of operations from inputs to an output, and the record of what was done."""
