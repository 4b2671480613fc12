"""The page of a customer's preferences."""
