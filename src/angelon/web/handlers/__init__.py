"""The pages of handlers: the shop's own functions, their runs, a rehearsal on the sample event."""
