"""What runs beside the spine, each with a time of its own: nothing waits for it."""
