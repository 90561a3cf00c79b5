"""Reads the catalogue, the statistics and rows."""
