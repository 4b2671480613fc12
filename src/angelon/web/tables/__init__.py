"""The pages of the shop's own tables."""
