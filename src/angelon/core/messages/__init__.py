"""What is said: templates in a sandbox, blocks to MJML, an email's parts."""
