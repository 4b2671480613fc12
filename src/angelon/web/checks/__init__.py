"""Checks."""
