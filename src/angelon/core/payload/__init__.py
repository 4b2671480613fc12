"""What a store sent: its bytes read as a value, that value as a tree of fields, and paths into it."""
