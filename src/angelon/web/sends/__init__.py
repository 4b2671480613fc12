"""Every message, what it said, and what the way out answered."""
