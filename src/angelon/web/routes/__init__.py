"""Who hears what: each route one sentence, with what it makes of the sample event beside it."""
