"""What comes in: deliveries, fetched pages, rows of files, mails; stored before it is acknowledged."""
