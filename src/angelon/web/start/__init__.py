"""An empty installation: the shop is named, and the first steps are shown until a mail has gone out."""
