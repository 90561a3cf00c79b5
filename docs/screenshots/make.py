"""Makes the pictures of this folder from the demo data: each command in a real terminal of about 1280 × 800.

Needs Debian's xvfb, xterm and imagemagick. Run it with `make screenshots`.
"""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psycopg

HERE = Path(__file__).resolve().parent
SLABROW = Path(sys.executable).with_name("slabrow")
NEEDED = {"Xvfb": "xvfb", "xterm": "xterm", "import": "imagemagick"}
SCREEN = ":87"

# Name → what is typed. Steps without a picture stand between them.
STEPS = [
    ("survey", "slabrow survey apiary.reading --exact --save before.json --workload workload.sql --now 2026-03-01"),
    ("weigh", "slabrow weigh apiary.coop_event --workload workload.sql --now 2026-03-01 --picture weigh.png"),
    ("forecast", "slabrow forecast --table apiary.reading --now 2026-03-01 --picture forecast.png"),
    ("convert", "slabrow convert --table apiary.reading --now 2026-03-01 --pretend --go"),
    (None, "slabrow convert --table apiary.coop_event --go"),
    (None, "slabrow convert --table apiary.inspection --go"),
    ("census", "slabrow census apiary.reading --exact --against before.json"),
    ("route", "slabrow route --table apiary.reading 2026-03-01T00:00Z 2026-02-28T23:59:59.999999Z 2031-01-01"),
    (None, "slabrow route --by hash --types int4 --parts 16 --values coops.csv --picture spread.png"),
    ("prove", "slabrow prove --queries proofs.sql --run --contrast"),
    (None, "slabrow prove --queries workload.sql --run --picture prove.png"),
    ("tend-check", "slabrow tend --check --now 2026-05-20"),
    ("tend", "slabrow tend --now 2026-06-15 --retiring 4"),
    ("tend-done", "slabrow tend --now 2026-06-15 --retiring 4 --pretend --go"),
    ("history", "slabrow history"),
    ("compare", "slabrow compare --table apiary.reading --with apiary.reading_before --queries workload.sql"),
]


# A few queries with something to say about each, so that all of it has room in one picture.
PROOFS = """
-- name: february
-- touches: <= 1
SELECT count(*) FROM apiary.reading WHERE taken_at >= '2026-02-01' AND taken_at < '2026-03-01';
-- name: february-by-trunc
-- touches: <= 1
SELECT count(*) FROM apiary.reading WHERE date_trunc('month', taken_at) = '2026-02-01';
-- name: last-month
SELECT count(*) FROM apiary.reading WHERE taken_at + interval '1 month' > '2026-03-01';
-- name: bare-dates
SELECT count(*) FROM apiary.reading WHERE taken_at BETWEEN '2026-02-01' AND '2026-02-28';
-- name: a-day-prepared
-- params: '{2026-02-03}'
SELECT count(*) FROM apiary.reading WHERE taken_at = ANY ($1::timestamptz[]);
-- name: a-hive
SELECT max(weight_kg) FROM apiary.reading WHERE hive_id = 17;
"""


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
        shoot("demo", "slabrow demo", environment, Path.home(), until="2 of 9")
        typed = shoot(None, "slabrow demo --load-only --keep-server", environment, Path.home())
        folder = Path(re.search(r"cd (\S+)", typed).group(1))
        environment["SLABROW_DSN"] = re.search(r"export SLABROW_DSN='(.*)'", typed).group(1)
        save_coops(environment["SLABROW_DSN"], folder / "coops.csv")
        (folder / "proofs.sql").write_text(PROOFS)
        for name, command in STEPS:
            shoot(name, command, environment, folder)
        shutil.copy(folder / "forecast.png", HERE / "forecast-picture.png")
        shutil.copy(folder / "spread.png", HERE / "spread.png")
        shutil.copy(folder / "weigh.png", HERE / "weigh-picture.png")
        shutil.copy(folder / "prove.png", HERE / "prove-picture.png")
    finally:
        subprocess.run([SLABROW, "demo", "--stop"], env=environment, check=False)
        screen.terminate()
        shutil.rmtree(state, ignore_errors=True)
    return 0


def save_coops(dsn: str, path: Path) -> None:
    """The cooperative of every event, as the server's COPY writes it."""
    query = "COPY (SELECT coop_id FROM apiary.coop_event) TO STDOUT (FORMAT CSV)"
    with psycopg.connect(dsn) as connection, connection.cursor().copy(query) as copy:
        path.write_bytes(b"".join(copy))


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
        terminal.terminate()
        terminal.wait()
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\r", "", printed.read_text(errors="replace"))


if __name__ == "__main__":
    sys.exit(main())
