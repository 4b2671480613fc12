"""Who hears what: each route one sentence, with what it makes of the event in hand beside it."""
