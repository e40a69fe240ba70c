"""What a gridded dataset is: variables, axes, time, units, and the ways people name parts of
them."""
