"""Paired ratios of whole runs, never part of the tests: machines differ, ratios of one run do not."""
