"""Files that run upkeep again and again: a crontab line, or a systemd service with its timer. Pure text."""

import re
import shlex
from collections.abc import Sequence
from dataclasses import dataclass

from slabrow.core.values.errors import UsageError
from slabrow.core.values.one_line import one_line


@dataclass(frozen=True, slots=True)
class Schedule:
    """The command that runs, its folder and its user.

    command      the program and its options
    environment  variables that it needs; secrets do not belong here
    """

    command: Sequence[str]
    folder: str
    user: str
    environment: Sequence[tuple[str, str]] = ()

    @property
    def line(self) -> str:
        """The command as one line of a shell."""
        return shlex.join(self.command)


def _check(schedule: Schedule) -> None:
    """A line break would begin a line of its own, in both kinds of file. Raises UsageError."""
    texts = (
        *schedule.command,
        schedule.folder,
        schedule.user,
        *(text for pair in schedule.environment for text in pair),
    )
    for text in texts:
        if _BREAK.search(text):
            raise UsageError(
                "a line break or a control character cannot stand in these files",
                found=one_line(text)[:60],
                fix="give names without one",
            )


_BREAK = re.compile(r"[\x00-\x1f\x7f\x85\u2028\u2029]")


def cron_file(schedule: Schedule) -> str:
    """For /etc/cron.d: at a quarter past every hour, spread over five minutes, and never twice at once.

    What cron gets it sends by mail: so the report is printed only when something is left to do, or went wrong.
    Raises UsageError for text that cannot be written on one line.
    """
    _check(schedule)
    variables = "".join(f"{name}={value}\n" for name, value in schedule.environment)
    folder, lock = shlex.quote(schedule.folder), shlex.quote(_lock(schedule))
    report = f'report=$(flock -n -E 0 {lock} {schedule.line}) || echo "$report"'
    line = f"cd {folder} && sleep $((RANDOM % 300)) && {{ {report}; }}"
    line = line.replace("%", "\\%")  # in a crontab a bare percent sign ends the line (crontab(5))
    return (
        "# Upkeep of partitions. Save as /etc/cron.d/slabrow; its owner has to be root.\n"
        f"SHELL=/bin/bash\n{variables}15 * * * * {schedule.user} {line}\n"
    )


def systemd_files(schedule: Schedule) -> str:
    """A service and a timer in one text, each under the name of its file: hourly, with a random delay.

    Raises UsageError for text that cannot be written on one line.
    """
    _check(schedule)
    folder = schedule.folder.replace("%", "%%")
    variables = "".join(f"Environment={_quoted(f'{name}={value}')}\n" for name, value in schedule.environment)
    return f"""# /etc/systemd/system/slabrow-tend.service
[Unit]
Description=Upkeep of partitions
Wants=network-online.target
After=network-online.target

[Service]
Type=oneshot
User={schedule.user}
WorkingDirectory={folder}
{variables}ExecStart={_escaped(schedule.command)}
# 1: something is left to do, as it is reported; the others are failures.
SuccessExitStatus=1
NoNewPrivileges=true

# /etc/systemd/system/slabrow-tend.timer
[Unit]
Description=Upkeep of partitions, every hour

[Timer]
OnCalendar=hourly
RandomizedDelaySec=5min
Persistent=true

[Install]
WantedBy=timers.target

# Then: systemctl daemon-reload && systemctl enable --now slabrow-tend.timer
# systemd never starts a service that still runs, so two never work at once.
"""


def _lock(schedule: Schedule) -> str:
    return f"{schedule.folder.rstrip('/')}/.slabrow-tend.lock"


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%") + '"'


def _escaped(command: Sequence[str]) -> str:
    """As ExecStart reads it: double quotes around what holds white space, `%` and `$` doubled (systemd.service(5))."""
    return " ".join(
        _quoted(part).replace("$", "$$") if set(part) & set(" \t\"'\\%$;") or not part else part for part in command
    )
