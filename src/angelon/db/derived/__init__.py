"""What is worked out from the rest and can be made anew: counts, search, shapes, figures."""
