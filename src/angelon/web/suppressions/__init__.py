"""Suppressions and consent."""
