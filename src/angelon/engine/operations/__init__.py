"""What may be done: each function takes a unit of work and gives a result, or raises Invalid with what keeps it.

Pages, commands and the API are thin callers of these; nothing else writes what a person changes. One file a subject:
bundles, checks, events, files, gateways, manual runs, messages, routes, segments, sends, sources, store, suppressions,
variables.
"""
