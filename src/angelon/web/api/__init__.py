"""The API, /api/v1: each operation described once, which is what is checked, answered and documented."""
