"""Which partitions a statement reads, and why it does not read fewer."""
