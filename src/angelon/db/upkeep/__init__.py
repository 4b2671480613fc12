"""What keeps an installation well: retention, gateways' use and health, alerts, clocks."""
