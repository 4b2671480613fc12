"""From one event to the sends that come of it, with the reason for each and for each that does not."""
