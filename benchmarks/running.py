"""Runs the program to its end: how long it took, and the memory that it alone needed."""

import os
import subprocess
import time


def finish(process: subprocess.Popen, what: str, began: float) -> tuple[float, float]:
    """Seconds since `began`, and the peak memory of the process in MB. Ends the benchmark when the program fails."""
    said = process.stdout.read(), process.stderr.read()
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"slabrow {what} ended with {process.returncode}: {said}")
    return time.perf_counter() - began, usage.ru_maxrss / 1024
