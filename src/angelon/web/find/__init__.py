"""One box that finds orders, people, sends and messages."""
