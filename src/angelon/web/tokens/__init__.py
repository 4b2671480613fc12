"""The page of tokens: made, shown once, revoked."""
