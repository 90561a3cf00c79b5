"""One self-contained page from the results that commands have saved (N49, N57)."""
