"""Asks the server about statements: plans, values, statistics, measured constants."""
