"""Senders: addresses of the shop, each verified by a code."""
