"""Statements, read: their clauses, constants, parameters, and the definitions of tables."""
