"""The line on which orders travel, and who was told what."""
