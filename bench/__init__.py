"""Benchmarks: `make bench`. Each row is a ratio or a time, measured against a baseline in the same run, in turn with
it.
"""
