"""Made-up rows and a made-up day of load, from statistics alone."""
