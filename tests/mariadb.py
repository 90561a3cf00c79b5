"""A private MariaDB, started once a run on a socket of its own: the oracle for what is worked out without a server."""

import atexit
import os
import pwd
import shutil
import subprocess
import tempfile
import time
from functools import cache
from pathlib import Path


def _program(*names):
    folders = os.pathsep.join((os.environ.get("PATH", ""), "/usr/sbin", "/usr/local/sbin"))
    found = next((found for name in names if (found := shutil.which(name, path=folders))), None)
    if found is None:
        raise AssertionError(f"no {names[0]} here: apt-get install mariadb-server-core (make test does it as root)")
    return found


@cache
def socket():
    """The path of its socket; user root without a password. Never the machine's own service."""
    folder = Path(tempfile.mkdtemp(prefix="slabrow-mariadb-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    user = "mysql" if os.geteuid() == 0 else pwd.getpwuid(os.geteuid()).pw_name
    if os.geteuid() == 0:
        shutil.chown(folder, user)
    data, path = folder / "data", folder / "s"
    made = subprocess.run(
        [_program("mariadb-install-db"), "--no-defaults", f"--user={user}", f"--datadir={data}",
         "--auth-root-authentication-method=normal", "--skip-test-db"],
        capture_output=True, text=True,
    )  # fmt: skip
    if made.returncode:
        raise AssertionError(made.stderr)
    with open(folder / "log", "wb") as log:
        server = subprocess.Popen(
            [_program("mariadbd"), "--no-defaults", f"--user={user}", f"--datadir={data}", f"--socket={path}",
             "--skip-networking", "--innodb-flush-log-at-trx-commit=0", "--character-set-server=utf8mb4",
             "--collation-server=utf8mb4_general_ci", f"--pid-file={folder / 'pid'}"],
            stdout=log, stderr=log,
        )  # fmt: skip

    def stop():
        server.terminate()
        try:
            server.wait(30)
        except subprocess.TimeoutExpired:
            server.kill()

    atexit.register(stop)
    end = time.monotonic() + 60
    while not _answers(path):
        if server.poll() is not None or time.monotonic() > end:
            raise AssertionError((folder / "log").read_text(errors="replace")[-2000:])
        time.sleep(0.1)
    return str(path)


def _answers(path):
    import pymysql

    try:
        pymysql.connect(unix_socket=str(path), user="root").close()
    except pymysql.err.OperationalError:
        return False
    return True


def connect(database=None):
    import pymysql

    return pymysql.connect(unix_socket=socket(), user="root", charset="utf8mb4", autocommit=True, database=database)
