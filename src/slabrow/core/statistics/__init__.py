"""Estimates from statistics and samples: rows, sizes, growth."""
