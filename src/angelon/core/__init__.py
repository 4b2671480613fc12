"""The rules of the job, as functions of values.

Nothing in here opens a socket or a file, reads a clock or draws a random number: times, random numbers and
look-ups come in as arguments, so that a rehearsal, a check and the real thing can run the very same code.
"""
