"""What a store has set up: specs, their revisions, and what belongs to them."""
