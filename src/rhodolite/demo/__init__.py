"""The made-up world of Skarn Hydro: synthetic data with known signals, and a full example on
them."""
