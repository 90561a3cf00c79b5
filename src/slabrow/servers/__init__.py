"""Server families: each reads its catalogue into core objects, writes actions as its SQL, and reads its plans."""
