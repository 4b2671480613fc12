"""What would have happened, and what will: rehearsals, customers as they were, forecasts."""
