"""Makes the pictures of this folder from the demo data: each command in a real terminal of about 1280 × 800.

Needs Debian's xvfb, xterm, imagemagick and chromium. Run it with `make screenshots`.
"""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent.parent))
import psycopg  # noqa: E402

from slabrow.servers.postgresql.private.server import start  # noqa: E402
from tests.browser import Browser  # noqa: E402

SLABROW = Path(sys.executable).with_name("slabrow")
NEEDED = {"Xvfb": "xvfb", "xterm": "xterm", "import": "imagemagick", "chromium": "chromium"}
SCREEN = ":87"

README = HERE.parent.parent / "README.md"
# A picture that a command draws, rather than the terminal: the file that its --picture names.
DRAWN = {
    "weigh-picture": "weigh.png",
    "rehearse-picture": "day.png",
    "prove-picture": "prove.png",
}
# Pictures of a partition that goes to another server, which the walk has not.
APART = ("relocate", "places")
OLDEST = "apiary.reading_2025_05"
# A page, as a browser shows it.
PAGES = {"report": "reading.html"}
# A picture of work that is under way: taken once the terminal shows this, and the work is stopped there.
UNDER_WAY = {"convert-progress": "0:00:07"}


def walk() -> list[tuple[str | None, str]]:
    """The commands of the README's walk in their order, each with the name of the picture that stands below it."""
    text = README.read_text().split("## The walk", 1)[1].split("## Rules of every command", 1)[0]
    steps: list[tuple[str | None, str]] = []
    for block, picture in re.findall(r"```sh\n(.*?)```|!\[[^\]]*\]\(docs/screenshots/([\w-]+)\.png\)", text, re.DOTALL):
        if block:
            steps += [
                (None, line.split("   #")[0].strip()) for line in block.splitlines() if line.startswith("slabrow")
            ]
        elif picture not in (*DRAWN, *PAGES, *APART):
            steps[-1] = (picture, steps[-1][1])
    return [step for step in steps if not step[1].startswith("slabrow demo")]


def main() -> int:
    missing = [package for program, package in NEEDED.items() if shutil.which(program) is None]
    if missing:
        print(f"missing: {' '.join(missing)}; install them with your package manager", file=sys.stderr)
        return 2
    screen = subprocess.Popen(["Xvfb", SCREEN, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    state = tempfile.mkdtemp(prefix="slabrow-screens-")
    environment = {
        **os.environ,
        "DISPLAY": SCREEN,
        "XDG_STATE_HOME": state,
        "LANG": "C.UTF-8",
        "PATH": f"{SLABROW.parent}:{os.environ['PATH']}",
    }
    try:
        time.sleep(1)
        shoot("demo", "slabrow demo", environment, Path.home(), until="2 of 10")
        typed = shoot(None, "slabrow demo --load-only --keep-server", environment, Path.home())
        folder = Path(re.search(r"cd (\S+)", typed).group(1))
        environment["SLABROW_DSN"] = re.search(r"export SLABROW_DSN='(.*)'", typed).group(1)
        for name, command in walk():
            shoot(name, command, environment, folder, until=UNDER_WAY.get(name or ""))
        elsewhere(environment, folder)
        for name, drawn in DRAWN.items():
            shutil.copy(folder / drawn, HERE / f"{name}.png")
        browser = Browser()
        for name, page in PAGES.items():
            browser.show(folder / page, 1280, 800)
            browser.picture(HERE / f"{name}.png")
        browser.close()
    finally:
        subprocess.run([SLABROW, "demo", "--stop"], env=environment, check=False)
        screen.terminate()
        shutil.rmtree(state, ignore_errors=True)
    return 0


def elsewhere(environment: dict[str, str], folder: Path) -> None:
    """A partition goes to a second private server, of its own folder."""
    for left in ("convert apiary.reading", "split apiary.reading_2026_02"):
        shoot(None, f"slabrow {left} --drop-old --go", environment, folder)
    attic = start()
    try:
        known = psycopg.conninfo.conninfo_to_dict(attic.dsn)
        with psycopg.connect(environment["SLABROW_DSN"], autocommit=True) as connection:
            connection.execute("CREATE EXTENSION IF NOT EXISTS postgres_fdw")
            connection.execute(f"CREATE SERVER attic FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '{known['host']}', "
                               "dbname 'postgres', fetch_size '10000', batch_size '500', connect_timeout '3')")  # fmt: skip
            connection.execute("CREATE USER MAPPING FOR PUBLIC SERVER attic OPTIONS (user 'postgres', "
                               "password_required 'false')")  # fmt: skip
            keys = connection.execute("SELECT conname FROM pg_constraint WHERE contype = 'f' AND conparentid = 0 "
                                      "AND conrelid = 'apiary.reading'::regclass").fetchall()  # fmt: skip
            for (key,) in keys:
                connection.execute(f"ALTER TABLE apiary.reading DROP CONSTRAINT {key}")
        with (folder / "slabrow.toml").open("a") as layout:
            layout.write(f'\n[[elsewhere]]\nname = "attic"\ndsn = "{attic.dsn}"\n')
        move = f"slabrow relocate {OLDEST} --elsewhere attic --give-up-key"
        shoot("relocate", move, environment, folder)
        shoot("places", f"{move} --go | tail -4; slabrow census apiary.reading", environment, folder)
    finally:
        attic.stop()


def shoot(name: str | None, command: str, environment: dict[str, str], folder: Path, until: str | None = None) -> str:
    """Types a command into a terminal; takes its picture at its end, or once it printed `until`; returns the output."""
    with tempfile.TemporaryDirectory() as passing:
        done, printed = Path(passing) / "done", Path(passing) / "out"
        inner = (
            f"cd '{folder}'; printf '\\033[1m$ {command}\\033[0m\\n'; script -qfec '{command}' '{printed}'; "
            f"printf '\\033[?25l'; touch '{done}'; sleep 60"
        )
        terminal = subprocess.Popen(
            [
                "xterm",
                "-geometry",
                "158x53+0+0",
                "-fa",
                "DejaVu Sans Mono",
                "-fs",
                "9",
                "-bg",
                "#16212b",
                "-fg",
                "#dfe7ec",
                "-e",
                "bash",
                "-c",
                inner,
            ],
            env=environment,
        )
        deadline = time.monotonic() + 300
        while not done.exists() and time.monotonic() < deadline:
            if until and printed.exists() and until in printed.read_text(errors="replace"):
                break
            time.sleep(0.02)
        time.sleep(0.1 if until else 0.5)
        if name:
            subprocess.run(["import", "-window", "root", str(HERE / f"{name}.png")], env=environment, check=True)
        if name in UNDER_WAY:  # as with Ctrl-C; closing the terminal does not end what runs in it
            subprocess.run(["pkill", "-INT", "-f", command], check=False)
            time.sleep(3)
        terminal.terminate()
        terminal.wait()
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\r", "", printed.read_text(errors="replace"))


if __name__ == "__main__":
    sys.exit(main())
