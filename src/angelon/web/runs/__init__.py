"""Runs by hand."""
