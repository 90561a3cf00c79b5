"""Asks about statements: plans and measured runs."""
