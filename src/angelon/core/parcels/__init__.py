"""Parcels: the stages that they go through, the numbers that they have, and when something is expected of them. Pure.

`stages` takes in what is told, `numbers` says whose number one is, `words` reads a carrier's own words, `days` says
when a parcel is late, counts as delivered, or counts as lost.
"""
