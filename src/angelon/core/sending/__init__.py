"""From a send that is due to what its gateway takes: guards again, text, files chosen. Pure."""
