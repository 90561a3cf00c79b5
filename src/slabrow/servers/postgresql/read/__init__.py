"""Reads the catalogue and the rows into core objects."""
