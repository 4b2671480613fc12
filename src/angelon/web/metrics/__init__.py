"""How it runs, for a monitoring system."""
