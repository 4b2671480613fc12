"""The guide: short pages by task, the same as in `docs/guide`."""
