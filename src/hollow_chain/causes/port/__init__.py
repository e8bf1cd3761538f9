"""Port: an endpoint that is taken, not allowed, of no adapter, switched off, or that nothing lets through."""
