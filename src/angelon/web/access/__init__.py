"""Who is signed in, and what they may: asked before every request."""
