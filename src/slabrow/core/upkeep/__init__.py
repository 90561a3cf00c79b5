"""Which partitions are due, what differs from the layout, and the actions that follow from it."""
