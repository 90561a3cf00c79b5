"""The examples below the options of `slabrow COMMAND --help`, and the page of the guide for each command."""

GUIDE = "docs/guide"

# Each command: the page of the guide (None: the README's walk), and its examples with what they are for.
_EXAMPLES: dict[str, tuple[str | None, tuple[tuple[str, str], ...]]] = {
    "demo": (
        None,
        (("demo", "the whole walk, about two minutes"), ("demo --keep-server", "and leave the server there")),
    ),
    "survey": (
        "choosing.md",
        (
            ("survey apiary.reading", "from statistics alone"),
            ("survey apiary.reading --exact --save before.json", "count the rows, and keep the counts"),
        ),
    ),
    "weigh": (
        "choosing.md",
        (
            ("weigh apiary.reading --workload workload.sql --keep '13 months'", "rank layouts"),
            ("weigh apiary.reading --workload server-log.csv --write slabrow.toml", "write the best one"),
        ),
    ),
    "forecast": (
        "choosing.md",
        (
            ("forecast apiary.reading", "the partitions that the layout gives"),
            ("forecast apiary.reading --until 2027-01-01", "as they will be then"),
        ),
    ),
    "build": (
        "keeping.md",
        (
            ("build apiary.reading --schema reading.sql", "show what would be built"),
            ("build apiary.reading --like apiary.reading_before --go", "build it like another table"),
        ),
    ),
    "convert": (
        "converting.md",
        (
            ("convert apiary.reading --workload workload.sql", "what would be done, and which statements break"),
            ("convert apiary.reading --go", "do it while the table is used, or go on after a stop"),
            ("convert apiary.reading --status", "where it stands, from any session"),
            ("convert apiary.reading --undo --go", "go back, with everything written since"),
            ("convert apiary.reading --drop-old --go", "later: let go of the old table"),
            ("convert apiary.reading --way as-is", "make the table the first partition, without a copy"),
        ),
    ),
    "census": (
        "keeping.md",
        (
            ("census apiary.reading", "from statistics alone"),
            ("census apiary.reading --exact --against before.json", "count, and compare with an earlier survey"),
        ),
    ),
    "route": (
        "choosing.md",
        (
            ("route apiary.reading 2026-03-01T00:00Z", "where does this row go"),
            ("route --by hash --types int8,text --parts 16 '17,abc'", "the same without a server"),
            ("route apiary.coop_event --by hash --key coop_id --parts 16", "how its rows would spread"),
        ),
    ),
    "prove": (
        "proving.md",
        (
            ("prove --queries workload.sql", "as the server plans the queries"),
            ("prove apiary.reading --queries workload.sql --run", "and run them, changing nothing"),
            ("prove --queries workload.sql --offline --schema tables.sql", "without a server"),
        ),
    ),
    "tend": (
        "keeping.md",
        (
            ("tend", "show what is due"),
            ("tend --go", "do it: from cron, as often as you like"),
            ("tend --check", "is enough prepared?"),
        ),
    ),
    "adopt": (
        "partitions.md",
        (
            ("adopt apiary.staged --into apiary.reading --from 2026-07-01 --to 2026-08-01", "check a table"),
            ("adopt apiary.staged --into apiary.reading --go", "bring it in, with the bounds of the layout"),
            ("adopt --from-archive old/apiary.reading_2025_01.json --go", "bring an archive back"),
        ),
    ),
    "release": (
        "partitions.md",
        (
            ("release apiary.reading_2025_01", "show what would be done"),
            ("release apiary.reading_2025_01 --to attic --keep-check --go", "into another schema, ready to come back"),
        ),
    ),
    "split": (
        "partitions.md",
        (
            ("split apiary.reading_2026_03 --span '7 days'", "a month into weeks: show what would be done"),
            ("split apiary.reading_2026_03 --at 2026-03-15 --go", "do it while the table is used"),
            ("split apiary.reading_rest --span '1 month' --go", "the catch-all, by what lies in it"),
            ("split apiary.reading_2026_03 --undo --go", "go back, with everything written since"),
            ("split apiary.reading_2026_03 --drop-old --go", "later: let go of the old partition"),
        ),
    ),
    "merge": (
        "partitions.md",
        (
            ("merge apiary.reading_2025_01 apiary.reading_2025_02", "show what would be done"),
            ("merge apiary.reading_2025_01 apiary.reading_2025_02 --go", "do it while the table is used"),
        ),
    ),
    "relocate": (
        "places.md",
        (
            ("relocate apiary.reading_2025_01 --to-tablespace cold", "what would be done, and how long readers wait"),
            ("relocate apiary.reading_2025_01 --to-tablespace cold --go", "indexes first, then the rows"),
            ("relocate apiary.reading_2026_03 --to-tablespace fast --way live --go", "while it is used"),
            ("relocate apiary.reading_2026_03 --undo --go", "go back, with everything written since"),
            ("relocate apiary.reading_2026_03 --drop-old --go", "later: let go of the partition in the old place"),
        ),
    ),
    "index": (
        "partitions.md",
        (
            ("index apiary.reading", "which index is on which partition"),
            ("index apiary.reading --mend --go", "build what is missing, beside writers"),
            ("index apiary.reading --create 'CREATE INDEX ON apiary.reading (kind)' --go", "a new one everywhere"),
            ("index apiary.reading --drop reading_kind_idx --go", "take one away"),
        ),
    ),
    "history": (
        "keeping.md",
        (
            ("history --most 20", "the newest entries"),
            ("history apiary.reading --kind archive", "of one table and kind"),
        ),
    ),
    "rehearse": (
        "showing.md",
        (
            ("rehearse apiary.reading --workload workload.sql --rows 2000000", "the layout file's, against the table"),
            ("rehearse apiary.reading --layout a.toml --layout b.toml --workload log.csv --for 5min", "two of them"),
        ),
    ),
    "compare": (
        "showing.md",
        (
            ("compare apiary.reading --with apiary.reading_before --queries workload.sql", "before against after"),
            ("compare apiary.reading --queries workload.sql --save before.json", "now, to be compared later"),
            ("compare apiary.reading --queries workload.sql --with-saved before.json", "later"),
        ),
    ),
    "complete": (
        None,
        (("complete bash", "for ~/.bashrc: source <(slabrow complete bash)"),),
    ),
    "report": (
        "showing.md",
        (("report survey.json weigh.json compare.json --out reading.html", "from what --save has written"),),
    ),
}


def examples(command: str) -> str:
    """The text below a command's options."""
    page, some = _EXAMPLES[command]
    width = max(len(example) for example, _ in some)
    where = "README.md, The walk" if page is None else f"{GUIDE}/{page}"
    lines = [f"  slabrow {example:<{width}}   {what}" for example, what in some]
    return "\n".join(["examples:", *lines, "", f"guide: {where}; in trouble: {GUIDE}/troubleshooting.md"])


def every_example() -> tuple[tuple[str, str], ...]:
    """Each command with each of its examples, for the test that runs them."""
    return tuple((command, example) for command, (_, some) in _EXAMPLES.items() for example, _ in some)
