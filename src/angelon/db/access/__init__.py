"""Who may do what, and what only this installation can open."""
