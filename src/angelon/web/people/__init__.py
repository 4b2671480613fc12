"""One customer: what is known, and how it is given out or erased."""
