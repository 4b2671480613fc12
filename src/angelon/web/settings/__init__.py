"""What holds for the whole shop: its name and languages, ways to reach it, its team, its rules."""
