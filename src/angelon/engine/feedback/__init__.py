"""What comes back: receipts, returned mails, answers of customers and of calls, and what follows."""
