"""Tables, sessions, migrations and every query. SQL stands nowhere else."""
