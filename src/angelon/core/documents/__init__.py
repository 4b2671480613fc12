"""Invoices and what corrects them: which tax, how much, with a reason for each figure. Pure."""
