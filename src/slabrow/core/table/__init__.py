"""Partitioned tables: bounds, spans, the declared layout, the tree that the server holds."""
