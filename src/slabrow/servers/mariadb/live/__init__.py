"""Changes tables in use on MariaDB: a copy by pieces, a log of changed keys, and names swapped behind a short lock."""
