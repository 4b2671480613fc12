"""Who mails come from: addresses of the shop, each verified by a code."""
