"""Rehearsals on PostgreSQL: tables of made-up rows, and a load on them."""
