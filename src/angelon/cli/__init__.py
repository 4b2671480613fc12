"""The command line: `angelon`."""
