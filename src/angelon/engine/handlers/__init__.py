"""Handlers, functions of the shop's own: run apart, asked before an event is planned, kept with it."""
