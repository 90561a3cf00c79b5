"""PostgreSQL 15 to 18."""
