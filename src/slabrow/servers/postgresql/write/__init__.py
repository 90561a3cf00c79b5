"""Writes actions as PostgreSQL's SQL. Pure: text out, nothing sent."""
