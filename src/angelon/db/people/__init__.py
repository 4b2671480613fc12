"""Customers: who they are, what is kept about them, and whether they may be written to."""
