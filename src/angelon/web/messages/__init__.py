"""What is said: written, seen as the customer will see it, published."""
