"""Writes changes as statements."""
