"""Several processes of Angelon over a PostgreSQL of their own: to try it on one machine, for tests and measurements."""
