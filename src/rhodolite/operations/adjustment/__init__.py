"""Models brought to observations: what is learned in the years of training, and how it is used."""
