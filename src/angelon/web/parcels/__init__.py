"""Parcels and carriers on pages: the list, an order's own, a file of them, who brings them."""
