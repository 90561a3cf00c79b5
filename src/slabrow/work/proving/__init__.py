"""Which partitions queries touch: predicted, planned and run."""
