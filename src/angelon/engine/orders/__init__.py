"""What is told of orders beside their events: parcels, events of our own, tags and values."""
