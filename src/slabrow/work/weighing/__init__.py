"""Candidate layouts against the real workload."""
