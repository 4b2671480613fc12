"""Moves events to sends: intake, planner, dispatcher, worker. Owns time and transactions."""
