"""Changing the layout of a table that is in use: planned, begun, watched, taken up again, taken back, let go."""
