"""How a variable is got out of a payload: a path, steps, and what to use otherwise, with a record of each."""
