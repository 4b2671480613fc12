"""The ways out: one interface, one file a protocol."""
