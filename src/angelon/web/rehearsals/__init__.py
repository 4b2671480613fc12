"""Rehearsals over many events."""
