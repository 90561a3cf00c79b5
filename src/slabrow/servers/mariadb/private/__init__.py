"""A server of our own."""
