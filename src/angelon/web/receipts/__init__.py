"""Where gateways tell what became of sends."""
