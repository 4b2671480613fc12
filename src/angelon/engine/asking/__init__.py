"""Asking elsewhere about events: look-ups (addresses) and handlers (functions) alike. Planning makes the inquiries, and
waits for none of them; what is answered has the decisions that need it taken.

`inquirer` claims what is due and stores what comes of it; `lanes` asks, each target apart; `addresses` and `functions`
are the two kinds of targets.
"""
