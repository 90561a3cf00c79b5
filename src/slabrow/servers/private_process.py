"""A private server's process, kept by its guardian (`guardian.py`): started, let go, ended. For all families."""

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from slabrow.servers import guardian


@dataclass(frozen=True, slots=True)
class Guarded:
    """A running server. It lives as long as its guardian has the pipe of this process."""

    folder: Path
    guardian: "subprocess.Popen[bytes]"
    main_pid: int

    def stop(self) -> None:
        """Ends the server and removes its folder. Returns when both are gone."""
        if self.guardian.stdin is not None and not self.guardian.stdin.closed:
            self.guardian.stdin.close()
        self.guardian.wait()

    def let_go(self) -> None:
        """The server goes on after this process."""
        if self.guardian.stdin is not None:
            self.guardian.stdin.write(b"stay\n")
            self.guardian.stdin.close()
        self.guardian.wait()


def guarded(
    folder: Path,
    command: Sequence[str],
    *,
    soft: int,
    hard: int,
    ids: tuple[int, int] | None,
    environment: Mapping[str, str],
) -> Guarded | None:
    """Starts a server under a guardian; None when it did not start.

    soft, hard  the signals that end it; ids: the user and group that it runs as
    """
    # A session of its own: Ctrl-C reaches this process, and the guardian then sees its pipe close.
    process = subprocess.Popen(
        [sys.executable, "-S", "-E", guardian.__file__, str(folder), str(int(soft)), str(int(hard)),
         "-" if ids is None else f"{ids[0]}:{ids[1]}", *command],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
        cwd="/",
        env=dict(environment),
    )  # fmt: skip
    assert process.stdout is not None
    pid = process.stdout.readline().strip()
    if not pid:
        process.wait()
        return None
    return Guarded(folder, process, int(pid))


def is_alive(pid: int, pid_file: Path) -> bool:
    """Whether a server that was let go still runs: its own file names it, and the process is there."""
    try:
        if pid_file.read_text().split("\n", 1)[0].strip() != str(pid):
            return False
        os.kill(pid, 0)
    except PermissionError:
        return True
    except (OSError, ValueError):
        return False
    return True


def end_by_pid(pid: int, folder: Path, pid_file: Path, soft: int = signal.SIGTERM, wait_s: float = 30.0) -> bool:
    """Ends a server that was let go, and removes its folder. False when it was not running any more.

    The pid is believed only while the server's own file names it.
    """
    was_running = is_alive(pid, pid_file)
    if was_running:
        os.kill(pid, soft)
        deadline = time.monotonic() + wait_s
        while is_alive(pid, pid_file) and time.monotonic() < deadline:
            time.sleep(0.05)
    # Only what looks like a private server's folder is ever removed.
    if folder.name.startswith("slabrow-") and (folder / "data").is_dir():
        shutil.rmtree(folder, ignore_errors=True)
    return was_running
