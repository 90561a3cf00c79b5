"""Layouts weighed against a workload: candidates, costs, ranking."""
