"""A private server, started for the demo, the tests and scratch work, and gone at the end."""
