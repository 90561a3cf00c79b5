"""The walk: the stages of the job in the order in which a person works, each with the command that does it alone."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class StoryStep:
    """A command, as its arguments, and the exit codes with which it may end.

    ending   said after it when it does not end with 0
    """

    arguments: tuple[str, ...]
    codes: tuple[int, ...] = (0,)
    ending: str = ""


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage of the walk: what is said, and the commands that are run."""

    title: str
    saying: str
    steps: tuple[StoryStep, ...]


def _step(command: str, codes: tuple[int, ...] = (0,), ending: str = "") -> StoryStep:
    return StoryStep(tuple(command.split()), codes, ending)


STAGES = (
    Stage(
        "Look",
        "What is in the table, and how many readings each month holds. The counts are kept, to be compared later.",
        (_step("survey apiary.reading --exact --save before.json"),),
    ),
    Stage(
        "Weigh",
        "Some forty ways to lay the readings out, and leaving them as they are, put to the federation's workload: "
        "what each would cost a day, and its price. So small a table is served from memory; the federation expects "
        "a hundred times as many rows, wants to drop old months whole, and takes the months.",
        (
            StoryStep(
                (
                    *[
                        "weigh",
                        "apiary.reading",
                        "--workload",
                        "workload.sql",
                        "--now",
                        "2026-03-01",
                        "--picture",
                        "weigh.png",
                    ],
                    "--keep",
                    "13 months",
                )
            ),
        ),
    ),
    Stage(
        "Forecast",
        "The partitions that the layout file gives, before anything exists.",
        (_step("forecast apiary.reading --now 2026-03-01 --picture forecast.png"),),
    ),
    Stage(
        "Convert",
        "The plain tables become partitioned ones. Rows are counted and fingerprinted, partition by partition, "
        "before the names are swapped; the old tables stay.",
        (
            _step("convert apiary.reading --now 2026-03-01 --script convert.sql"),
            _step("convert apiary.reading --now 2026-03-01 --pretend --go"),
            _step("convert apiary.coop_event --go"),
            _step("convert apiary.inspection --go"),
        ),
    ),
    Stage(
        "Count",
        "What stands in each partition now, and whether it equals the counts taken before.",
        (_step("census apiary.reading --exact --against before.json"),),
    ),
    Stage(
        "Route",
        "Where a value goes: the first instant of March, the last one of February, a cooperative, a zone.",
        (
            StoryStep(
                (
                    "route",
                    "apiary.reading",
                    "2026-03-01T00:00:00Z",
                    "2026-02-28T23:59:59.999999Z",
                    "2024-12-31T23:59:59Z",
                    "2031-01-01T00:00:00Z",
                )
            ),
            _step("route apiary.coop_event 1 5 240"),
            _step("route apiary.inspection A1 C3 H1"),
        ),
    ),
    Stage(
        "Prove",
        "Which partitions each query of the workload touches, asked of the server's planner. Some queries are "
        "written so that they cannot prune: people make such mistakes.",
        (
            _step(
                "prove --queries workload.sql",
                (1,),
                "Some limits are broken, and a build would fail here: that is what the exit code is for.",
            ),
        ),
    ),
    Stage(
        "Tend",
        "Three and a half months later: what must lie ahead is created, what is past keep is detached. "
        "The server's clock knows nothing of that: --pretend says that another day is meant, which on real data would "
        "retire what is still to be kept. Run again, it finds nothing to do.",
        (
            _step(
                "tend --now 2026-06-15",
                (4,),
                "Four months at once: a guard spoke, and they stay; what is to come would be made all the same.",
            ),
            _step("tend --now 2026-06-15 --pretend --retiring 4 --go"),
            _step("history --most 6"),
            _step("tend --now 2026-06-15"),
        ),
    ),
    Stage(
        "Compare",
        "The same queries on the table as it was and as it is.",
        (_step("compare apiary.reading --with apiary.reading_before --queries workload.sql"),),
    ),
)

NEXT = (
    "slabrow weigh apiary.coop_event --workload server-log.csv --now 2026-03-01",
    "slabrow survey apiary.coop_event",
    "slabrow prove --queries workload.sql --run apiary.reading",
    "slabrow tend --now 2026-09-01",
    "slabrow census apiary.inspection --exact --format json",
    "slabrow convert apiary.reading --drop-old",
)

NEXT_WHEN_PLAIN = (
    "slabrow survey apiary.coop_event",
    "slabrow forecast apiary.reading --now 2026-03-01",
    "slabrow convert apiary.reading --now 2026-03-01",
    "slabrow convert apiary.inspection --script inspection.sql",
    "slabrow prove --queries workload.sql",
)
