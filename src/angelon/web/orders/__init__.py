"""Orders as the events tell them."""
