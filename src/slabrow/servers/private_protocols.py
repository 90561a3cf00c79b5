"""Servers of our own, as a family starts them."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol


class PrivateServer(Protocol):
    """A server of our own: for the demo, the tests and scratch work. It ends with the process that started it."""

    @property
    def folder(self) -> Path:
        """Where its files are."""

    @property
    def version(self) -> int:
        """The major version."""

    @property
    def dsn(self) -> str:
        """How it is reached."""

    @property
    def log(self) -> Path:
        """The server's log of statements."""

    @property
    def main_pid(self) -> int:
        """The server's main process."""

    def stop(self) -> None:
        """Ends the server and removes its folder."""

    def let_go(self) -> None:
        """From now on the server stays when this process ends."""


class PrivateServers(Protocol):
    """Starts private servers, and ends those that were let go."""

    def start(self, memory_bytes: int | None = None) -> PrivateServer:
        """Raises ServerError when no server is installed here, or it does not start.

        memory_bytes   what tables are found in without a disk: then it reads past the system's own cache, where it can
        """

    def is_running(self, pid: int, folder: Path) -> bool:
        """Whether a server that was let go still runs."""

    def stop_by_pid(self, pid: int, folder: Path) -> bool:
        """Ends a server that was let go, and removes its folder. False when it was not running any more."""
