"""The pages that customers see, opened by a link of theirs: their preferences, a question about an order."""
