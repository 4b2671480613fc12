"""Segments."""
