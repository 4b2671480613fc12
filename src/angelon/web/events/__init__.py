"""Events that could not be planned."""
