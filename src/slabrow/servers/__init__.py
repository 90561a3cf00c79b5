"""Server families: each reads its catalogue into core objects, writes actions as its SQL, and reads its plans."""

# For `slabrow --help`, which must not load the families themselves; a test compares the two.
FAMILY_NAMES = ("PostgreSQL", "MariaDB")
