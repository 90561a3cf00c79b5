"""Conditions and statements in other words, and mistakes at the ends of days."""
