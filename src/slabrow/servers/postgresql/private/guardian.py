"""Run as a program: keeps one PostgreSQL server alive exactly as long as the process that asked for it.

    guardian.py FOLDER POSTGRES [UID GID]

Starts POSTGRES on FOLDER/data and prints its pid. When standard input closes, or on SIGTERM, the server is stopped
and FOLDER removed; when it says `stay` first, the server is left running. Only the standard library is imported, and
nothing of Slabrow: this must start at once and cannot fail halfway.
"""

import shutil
import signal
import subprocess
import sys


def main() -> int:
    """Starts the server, waits until the pipe closes, and ends the server."""
    folder, postgres, *ids = sys.argv[1:]
    identity = {"user": int(ids[0]), "group": int(ids[1]), "extra_groups": []} if ids else {}
    for ended in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(ended, lambda *_: sys.exit(1))
    with open(f"{folder}/startup.log", "wb") as log:
        server = subprocess.Popen(
            [postgres, "-D", f"{folder}/data"],
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
            _end(server)
            shutil.rmtree(folder, ignore_errors=True)
    return 0


def _end(server: "subprocess.Popen[bytes]") -> None:
    server.send_signal(signal.SIGINT)  # PostgreSQL's fast shutdown
    try:
        server.wait(20)
    except subprocess.TimeoutExpired:
        server.send_signal(signal.SIGQUIT)  # its immediate shutdown
        server.wait()


if __name__ == "__main__":
    sys.exit(main())
