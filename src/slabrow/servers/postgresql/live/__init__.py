"""Changing a table that is in use: a trigger records its changes, and they are brought over to the new table."""
