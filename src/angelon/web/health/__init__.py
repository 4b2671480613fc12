"""Whether the process is alive and able to serve, for machines."""
