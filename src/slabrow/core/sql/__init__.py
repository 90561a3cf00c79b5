"""What a statement says: its clauses, constants, parameters, and the definitions of tables."""
