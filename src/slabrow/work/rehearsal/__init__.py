"""Layouts tried for real: on made-up rows, under a made-up day of load."""
