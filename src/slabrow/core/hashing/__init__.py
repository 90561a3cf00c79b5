"""Routing by hash, bit for bit as the server does it, and how evenly keys spread."""
