"""What came in, what became of it, and what went out: deliveries, events, orders, sends and what they carry."""
