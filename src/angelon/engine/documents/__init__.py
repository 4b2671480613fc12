"""Documents made: which order, numbered and frozen; drawn as files in a process of their own."""
