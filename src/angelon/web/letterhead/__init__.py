"""What all of a store's emails share, seen on all of them at once; and what no message may say."""
