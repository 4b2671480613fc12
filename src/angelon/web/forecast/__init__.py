"""What the gateways will have to send."""
