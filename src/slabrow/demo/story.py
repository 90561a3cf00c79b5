"""The walk: the stages of the job in the order in which a person works, each with the command that does it alone."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class StoryStep:
    """A command, as its arguments, and the exit codes with which it may end.

    ending    said after it when it does not end with 0
    is_busy   whether a writer is at work on the readings meanwhile
    old_way   whether the DELETE that it replaces is tried afterwards
    """

    arguments: tuple[str, ...]
    codes: tuple[int, ...] = (0,)
    ending: str = ""
    is_busy: bool = False
    old_way: bool = False


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage of the walk: its text, and the commands that are run."""

    title: str
    saying: str
    steps: tuple[StoryStep, ...]


def step(
    command: str,
    codes: tuple[int, ...] = (0,),
    ending: str = "",
    *,
    more: tuple[str, ...] = (),
    is_busy: bool = False,
    old_way: bool = False,
) -> StoryStep:
    """more: arguments with blanks in them"""
    return StoryStep((*command.split(), *more), codes, ending, is_busy, old_way)


STAGES = (
    Stage(
        "Look",
        "The federation's readings as they will be next year: more than its server can hold in memory. What is in the "
        "table, and how many readings each month holds. The result is kept, to be compared later and for the page at "
        "the end.",
        (step("survey apiary.reading --exact --save survey.json"),),
    ),
    Stage(
        "Weigh",
        "Some fifty layouts, and the table as it is, against the federation's workload: what a day of it costs on "
        "each, what each takes, and what that is in money. Readings are kept for 13 months. An index on taken_at "
        "would serve the reports nearly as well as months do; old readings would still have to be deleted one by one.",
        (
            step(
                "weigh apiary.reading --workload workload.sql --now 2026-03-01 --picture weigh.png --save weigh.json",
                more=("--keep", "13 months"),
            ),
        ),
    ),
    Stage(
        "Forecast",
        "The layout file declares months. The partitions that it gives, before any of them exists.",
        (step("forecast apiary.reading --now 2026-03-01 --picture forecast.png --save forecast.json"),),
    ),
    Stage(
        "Convert",
        "The plain tables become partitioned ones, while they are read and written: a sensor gateway goes on writing "
        "readings meanwhile. Rows are counted and fingerprinted, partition by partition, before the names are swapped; "
        "the old tables stay, and get what is written from then on.",
        (
            step("convert apiary.reading --now 2026-03-01 --script by-hand"),
            step("convert apiary.reading --now 2026-03-01 --pretend --go --save convert.json", is_busy=True),
            step("convert apiary.reading --status"),
            step("convert apiary.coop_event --go"),
            step("convert apiary.inspection --go"),
        ),
    ),
    Stage(
        "Count",
        "The rows in each partition now, and whether they equal the counts from before.",
        (step("census apiary.reading --exact --against survey.json --save census.json"),),
    ),
    Stage(
        "Compare",
        "The same queries on the table before the conversion and after it, in turn, before any reading leaves: what "
        "got faster, what got slower, and what a month of it costs.",
        (
            step(
                "compare apiary.reading --with apiary.reading_before --queries workload.sql --times 2 "
                "--save compare.json"
            ),
        ),
    ),
    Stage(
        "Route",
        "The partition that a row with a given key belongs to: the first instant of March, the last one of February, "
        "a cooperative, a zone.",
        (
            step(
                "route apiary.reading 2026-03-01T00:00:00Z 2026-02-28T23:59:59.999999Z 2024-12-31T23:59:59Z "
                "2031-01-01T00:00:00Z"
            ),
            step("route apiary.coop_event 1 5 240"),
            step("route apiary.inspection A1 C3 H1"),
        ),
    ),
    Stage(
        "Prove",
        "The partitions that each query of the workload touches, according to the server's planner. Some of the "
        "queries are written so that they cannot prune, as it happens in real life.",
        (
            step(
                "prove --queries workload.sql --save prove.json",
                (1,),
                "Some queries touch more partitions than their limits allow: with this exit code a build would fail.",
            ),
        ),
    ),
    Stage(
        "Tend",
        "The next night: the coming partition is created, and the month that is past `keep` is let go, in a moment. "
        "The server's own clock says another day, so --pretend must confirm the day of --now: on real data a wrong "
        "day would retire partitions that must be kept, and a guard refuses many at once. The second run finds "
        "nothing to do.",
        (
            step(
                "tend apiary.reading --now 2026-06-15",
                (4,),
                "Four months would leave at once: a guard refuses that. The coming partitions would be created.",
            ),
            step("tend apiary.reading --now 2026-03-02 --pretend --go --save tend.json", old_way=True),
            step("history --most 3"),
            step("tend --now 2026-03-02"),
        ),
    ),
    Stage(
        "Report",
        "All of it on one page, for those who were not there.",
        (
            step(
                "report survey.json weigh.json forecast.json convert.json census.json compare.json prove.json tend.json"
                " --out report.html"
            ),
        ),
    ),
)

NEXT = (
    "slabrow weigh apiary.coop_event --workload server-log.csv --now 2026-03-01",
    "slabrow survey apiary.coop_event",
    "slabrow prove --queries workload.sql --run apiary.reading",
    "slabrow rehearse apiary.coop_event --workload workload.sql --for 20s",
    "slabrow tend --now 2026-09-01",
    "slabrow census apiary.inspection --exact --format json",
    "slabrow convert apiary.reading --drop-old",
)

NEXT_WHEN_PLAIN = (
    "slabrow survey apiary.coop_event",
    "slabrow forecast apiary.reading --now 2026-03-01",
    "slabrow convert apiary.reading --now 2026-03-01",
    "slabrow convert apiary.inspection --script by-hand",
    "slabrow prove --queries workload.sql",
)
