"""Runs the program to its end: how long it took, the memory that it alone needed, and who waited for locks."""

import os
import re
import subprocess
import time
from contextlib import suppress
from pathlib import Path
from threading import Event, Thread
from typing import Self

import psycopg

_EVERY_S = 0.05


def stolen_s() -> float:
    """Seconds for which other machines of the same host had our processors while we wanted them (proc(5), /proc/stat)."""
    ticks = Path("/proc/stat").read_text().split("\n", 1)[0].split()[8]
    return int(ticks) / os.sysconf("SC_CLK_TCK")


def finish(process: subprocess.Popen, what: str, began: float) -> tuple[float, float]:
    """Seconds since `began`, and the peak memory of the process in MB. Ends the benchmark when the program fails.

    The peak is read from /proc while it runs: what the system reports at the end counts the memory of the process that
    began it, too (Linux, exec_mmap).
    """
    peaks, ended = [0], Event()

    def look() -> None:
        while not ended.wait(_EVERY_S):
            with suppress(OSError):
                found = re.search(r"VmHWM:\s+(\d+) kB", Path(f"/proc/{process.pid}/status").read_text())
                peaks.append(int(found.group(1)) if found else 0)

    watcher = Thread(target=look)
    watcher.start()
    said = process.communicate()
    took = time.perf_counter() - began
    ended.set()
    watcher.join()
    if process.returncode:
        raise SystemExit(f"slabrow {what} ended with {process.returncode}: {said}")
    return took, max(peaks) / 1024


class LockWatch(Thread):
    """Looks every 20 ms how long sessions other than Slabrow's have been waiting for a lock.

    longest_ms   the longest wait so far; a wait that ends between two looks is seen up to 20 ms too short
    behind       who held the lock, as the end of a sentence
    """

    def __init__(self, dsn: str) -> None:
        super().__init__(daemon=True)
        self.dsn, self.longest_ms, self.behind, self.ended = dsn, 0.0, "", Event()

    def run(self) -> None:
        with psycopg.connect(self.dsn, autocommit=True, application_name="slabrow-watch") as watcher:
            while not self.ended.wait(0.02):
                for waited_ms, holders in watcher.execute(
                    """SELECT extract(epoch FROM clock_timestamp() - waitstart)::float8 * 1000,
                              (SELECT string_agg(application_name || ' ' || backend_type || ': ' || left(query, 100), ' | ')
                               FROM pg_stat_activity WHERE pid = ANY (pg_blocking_pids(w.pid)))
                       FROM (SELECT pid, waitstart FROM pg_locks JOIN pg_stat_activity USING (pid)
                             WHERE NOT granted AND waitstart IS NOT NULL AND application_name !~ '^slabrow') w"""
                ):
                    if waited_ms > self.longest_ms:
                        self.longest_ms, self.behind = waited_ms, f" (behind {holders})" if holders else ""

    def __enter__(self) -> Self:
        self.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.ended.set()
        self.join()
