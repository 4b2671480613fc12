"""Whether what a route asks for holds, with what was seen."""
