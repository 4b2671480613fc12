"""Where events come from: connect, capture, read."""
