"""Renaming, copying and deleting the things of the set-up: the same for each kind."""
