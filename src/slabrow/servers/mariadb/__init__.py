"""MariaDB: a server family. Its partitions are no tables of their own, and each statement that defines one commits."""
