"""The ways out: their settings, credentials and state."""
