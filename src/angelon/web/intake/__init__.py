"""POST /in/<source-key>: where deliveries arrive."""
