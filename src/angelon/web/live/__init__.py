"""One stream a tab that says when anything has changed."""
