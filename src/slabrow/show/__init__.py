"""Results as terminal tables, pictures, JSON and CSV."""
