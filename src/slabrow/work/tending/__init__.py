"""The routine upkeep: what is observed, decided and done for each table."""
