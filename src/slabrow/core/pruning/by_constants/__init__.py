"""Pruning that is decided once, from constants, while a statement is optimised: MariaDB's way.

Source: what MariaDB 10.11 does (EXPLAIN FORMAT=JSON), statement by statement; the order of its steps is that of
JOIN::optimize and prune_partitions (sql/sql_select.cc, sql/opt_range.cc).
"""
