"""Store events to email, SMS and chat: mapped, rehearsed, logged and retried."""
