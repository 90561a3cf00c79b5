"""A private MariaDB, never the machine's own service: on a unix socket in a folder of its own, and gone at the end."""

import os
import pwd
import shutil
import signal
import subprocess
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from slabrow.core.values.errors import ServerError
from slabrow.servers.private_process import Guarded, end_by_pid, guarded, is_alive

START_TIMEOUT_S = 60.0
_LEAST_BUFFERS = 24 << 20
_FOLDERS = ("/usr/sbin", "/usr/local/sbin", "/usr/libexec", "/usr/local/mysql/bin", "/opt/homebrew/bin")
_SETTINGS = (
    "--skip-networking", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_general_ci",
    "--innodb-flush-log-at-trx-commit=2", "--skip-log-bin", "--slow-query-log", "--long-query-time=0",
    "--log-slow-verbosity=query_plan,innodb", "--innodb-open-files=8000", "--table-definition-cache=4000",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class PrivateMaria:
    """`protocols.PrivateServer`."""

    process: Guarded
    version: int

    @property
    def folder(self) -> Path:
        """As `PrivateServer.folder`."""
        return self.process.folder

    @property
    def dsn(self) -> str:
        """As `PrivateServer.dsn`."""
        return f"mariadb://root@localhost/?socket={self.folder}/s"

    @property
    def log(self) -> Path:
        """As `PrivateServer.log`: the slow log, with every statement."""
        return self.folder / "slow.log"

    @property
    def main_pid(self) -> int:
        """As `PrivateServer.main_pid`."""
        return self.process.main_pid

    def stop(self) -> None:
        """As `PrivateServer.stop`."""
        self.process.stop()

    def let_go(self) -> None:
        """As `PrivateServer.let_go`."""
        self.process.let_go()


def _program(*names: str) -> str:
    path = os.pathsep.join((os.environ.get("PATH", ""), *_FOLDERS))
    found = next((found for name in names if (found := shutil.which(name, path=path))), None)
    if found is None:
        raise ServerError(
            "no MariaDB on this machine",
            found=f"there is no {names[0]}",
            fix="install your system's: apt-get install mariadb-server-core mariadb-client-core, or dnf install "
            "mariadb-server",
        )
    return found


def start(memory_bytes: int | None = None, more: tuple[str, ...] = ()) -> PrivateMaria:
    """Starts a private server.

    memory_bytes  its buffer pool; None: 256 MB. It reads past the system's own cache
    more          further options of mariadbd
    Raises ServerError when none is installed, or it does not start.
    """
    server, install = _program("mariadbd", "mysqld"), _program("mariadb-install-db", "mysql_install_db")
    _program("my_print_defaults")  # the installation asks it, and Debian ships it in another package
    folder = Path(tempfile.mkdtemp(prefix="slabrow-"))
    try:
        user = _unprivileged_user()
        if user is not None:
            os.chown(folder, user.pw_uid, user.pw_gid)
        _initialise(install, folder, user)
        return _launch(server, folder, user, memory_bytes or 256 << 20, more)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def _unprivileged_user() -> pwd.struct_passwd | None:
    """The user that the server runs as, because it refuses root. None: the present user."""
    if os.geteuid() != 0:
        return None
    for name in ("mysql", "nobody"):
        try:
            return pwd.getpwnam(name)
        except KeyError:
            continue
    raise ServerError("MariaDB does not run as root", fix="run this as an ordinary user")


def _initialise(install: str, folder: Path, user: pwd.struct_passwd | None) -> None:
    made = subprocess.run(
        [install, "--no-defaults", f"--datadir={folder}/data", "--auth-root-authentication-method=normal",
         "--skip-test-db", *([f"--user={user.pw_name}"] if user else [])],
        capture_output=True, text=True, cwd=folder, env=_clean_environment(folder),
    )  # fmt: skip
    if made.returncode:
        raise ServerError("MariaDB could not make its data folder", found=(made.stderr or made.stdout).strip()[-1000:])


def _clean_environment(folder: Path) -> dict[str, str]:
    """Without MYSQL_* variables, which would reach the server's own programs. Temporary tables lie in the server's own
    folder: as it starts it removes those in its folder for them, whoever made them.
    """
    kept = {name: value for name, value in os.environ.items() if not name.startswith(("MYSQL_", "MARIADB_"))}
    return kept | {"LC_ALL": "C", "TMPDIR": str(folder)}


def _launch(
    server: str, folder: Path, user: pwd.struct_passwd | None, memory: int, more: tuple[str, ...]
) -> PrivateMaria:
    command = [
        server, "--no-defaults", f"--datadir={folder}/data", f"--socket={folder}/s", f"--pid-file={folder}/pid",
        f"--innodb-buffer-pool-size={max(_LEAST_BUFFERS, memory)}", "--innodb-flush-method=O_DIRECT",
        f"--slow-query-log-file={folder}/slow.log", *_SETTINGS, *more,
    ]  # fmt: skip
    process = guarded(
        folder,
        command,
        soft=signal.SIGTERM,
        hard=signal.SIGKILL,
        ids=(user.pw_uid, user.pw_gid) if user else None,
        environment=_clean_environment(folder),
    )
    if process is None:
        raise ServerError("MariaDB did not start", found=f"the guardian of {folder} ended")
    try:
        return PrivateMaria(process, _version_when_ready(process))
    except BaseException:
        process.stop()
        raise


def _version_when_ready(process: Guarded) -> int:
    from slabrow.servers.mariadb.connection import connect

    deadline = time.monotonic() + START_TIMEOUT_S
    while True:
        try:
            connection = connect(f"mariadb://root@localhost/?socket={process.folder}/s")
            connection.driver.close()
            return connection.version[0]
        except ServerError as error:
            log = process.folder / "startup.log"
            words = log.read_text(errors="replace")[-2000:].strip() if log.exists() else str(error)
            if process.guardian.poll() is not None or "[ERROR] Aborting" in words or time.monotonic() > deadline:
                raise ServerError("MariaDB did not start", found=words) from None
            time.sleep(0.05)


def is_running(pid: int, folder: Path) -> bool:
    """Whether a server that was let go still runs."""
    return is_alive(pid, folder / "pid")


def stop_by_pid(pid: int, folder: Path) -> bool:
    """Ends a server that was let go, and removes its folder. False when it was not running any more."""
    return end_by_pid(pid, folder, folder / "pid")
