"""The store's library of files."""
