"""Run as a program: keeps one database server alive exactly as long as the process that asked for it.

    guardian.py FOLDER SOFT HARD UID:GID COMMAND…

Starts COMMAND and prints its pid. When standard input closes, or on SIGTERM, the server is stopped by the signal SOFT,
and if that takes too long by HARD, and FOLDER is removed; when it says `stay` first, the server is left running.
UID:GID is `-` for the present user. Only the standard library is imported, and nothing of Slabrow: this must start at
once and cannot fail halfway.
"""

import shutil
import signal
import subprocess
import sys


def main() -> int:
    """Starts the server, waits until the pipe closes, and ends the server."""
    folder, soft, hard, ids, *command = sys.argv[1:]
    user, _, group = ids.partition(":")
    identity = {"user": int(user), "group": int(group), "extra_groups": []} if group else {}
    for ended in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(ended, lambda *_: sys.exit(1))
    with open(f"{folder}/startup.log", "wb") as log:
        server = subprocess.Popen(
            command,
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
            cwd=folder,
            **identity,
        )  # type: ignore[call-overload]
    stays = False
    try:
        print(server.pid, flush=True)
        sys.stdout.close()
        stays = sys.stdin.buffer.readline() == b"stay\n"
    finally:
        if not stays:
            _end(server, int(soft), int(hard))
            shutil.rmtree(folder, ignore_errors=True)
    return 0


def _end(server: "subprocess.Popen[bytes]", soft: int, hard: int) -> None:
    server.send_signal(soft)
    try:
        server.wait(20)
    except subprocess.TimeoutExpired:
        server.send_signal(hard)
        server.wait()


if __name__ == "__main__":
    sys.exit(main())
