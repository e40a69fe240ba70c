"""Values of options, each read from text and written back: statistics, cycles, regions, sites.

One module per value; those that name files are loaded by whoever runs the chain.
Never computes anything from data.
"""
