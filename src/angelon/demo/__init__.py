"""The demo: Brackwater Kites, a made-up workshop on a made-up coast."""
