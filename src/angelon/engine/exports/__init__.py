"""Orders, customers, sends, documents and parcels as rows of files."""
