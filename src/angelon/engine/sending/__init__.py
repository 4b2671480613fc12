"""What goes out: due sends, made ready, handed to their gateways, and what the tries came to."""
