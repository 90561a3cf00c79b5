"""Tests of Slabrow: the pure core by tables and laws, everything else through the program against real servers."""
