"""The demo's tables, rows, queries and stages for MariaDB. The server makes the rows itself, from numbers alone."""

from slabrow.demo.data import CHUNK, Demo
from slabrow.demo.schema import LAYOUTS
from slabrow.demo.story import Stage, step
from slabrow.demo.telling import Tell
from slabrow.servers.protocols import Session

DIFFERS = (
    "What is different from the walk on PostgreSQL: there are no foreign keys, for a partitioned table can have none "
    "here; moments are DATETIME in UTC; nothing is rehearsed yet."
)

TABLES = (
    "CREATE DATABASE apiary CHARACTER SET utf8mb4",
    "CREATE TABLE apiary.coop (coop_id int PRIMARY KEY, name varchar(40) NOT NULL, hives int NOT NULL)",
    "CREATE TABLE apiary.hive (hive_id int PRIMARY KEY, coop_id int NOT NULL, zone_code varchar(4) NOT NULL, "
    "founded date NOT NULL)",
    "CREATE TABLE apiary.reading (reading_id bigint NOT NULL AUTO_INCREMENT PRIMARY KEY, hive_id int NOT NULL, "
    "taken_at datetime NOT NULL, weight_kg float NOT NULL, brood_c float, humidity_pct smallint NOT NULL, "
    "sound_db float NOT NULL, KEY by_hive (hive_id, taken_at)) COMMENT 'what the sensors of a hive send'",
    "CREATE TABLE apiary.coop_event (event_id bigint NOT NULL AUTO_INCREMENT PRIMARY KEY, coop_id int NOT NULL, "
    "occurred_at datetime NOT NULL, kind varchar(12) NOT NULL, amount_kg float NOT NULL, "
    "KEY by_coop (coop_id, occurred_at))",
    "CREATE TABLE apiary.inspection (inspection_id bigint NOT NULL AUTO_INCREMENT PRIMARY KEY, hive_id int NOT NULL, "
    "zone_code varchar(4) NOT NULL, inspected_on date NOT NULL, varroa_count smallint NOT NULL, remark varchar(40), "
    "KEY by_day (inspected_on))",
)

_BEGIN, _SECONDS = "'2025-01-01'", 424 * 86_400
# Cooperatives by size, the largest first, and zones by their shares; each from a number that looks random.
_COOP = "1 + floor(240 * power(crc32(concat('c', seq)) / 4294967296, 4))"
_ZONE = "elt(1 + floor(6 * power(crc32(concat('z', seq)) / 4294967296, 1.5)), 'C1', 'A1', 'C2', 'C3', 'A2', 'H1')"


def _chance(letter: str) -> str:
    return f"(crc32(concat('{letter}', seq)) / 4294967296)"


def _rows(demo: Demo) -> dict[str, tuple[int, str]]:
    """How many rows each table has, and the columns of one, from `seq`. The federation grows: twice as many readings a
    day at the end as at the beginning.
    """
    when = f"{_BEGIN} + INTERVAL floor((sqrt(1 + 3 * (seq - 0.5) / {demo.readings}) - 1) * {_SECONDS}) SECOND"
    season = f"cos(6.28 * 14 / 12 * (sqrt(1 + 3 * (seq - 0.5) / {demo.readings}) - 1))"
    return {
        "coop": (240, "seq, concat('Cooperative ', seq), greatest(3, floor(40000 / power(seq, 1.75)))"),
        "hive": (demo.hives, f"seq, {_COOP}, {_ZONE}, {_BEGIN} - INTERVAL seq % 2900 + 100 DAY"),
        "reading": (
            demo.readings,
            f"seq, 1 + floor({demo.hives} * {_chance('h')}), {when}, 38 - 14 * {season} + 8 * {_chance('w')}, "
            f"IF(seq % 33, 34 + {_chance('b')} - 8 * greatest({season}, 0), NULL), 40 + 40 * {_chance('u')}, "
            f"30 + 62 * power({_chance('s')}, 3)",
        ),
        "coop_event": (
            demo.events,
            f"seq, {_COOP}, {_BEGIN} + INTERVAL floor(seq / {demo.events} * {_SECONDS - 1}) SECOND, "
            "elt(1 + crc32(seq) % 5, 'harvest', 'feeding', 'treatment', 'swarm', 'sale'), "
            f"40 * power({_chance('a')}, 2)",
        ),
        "inspection": (
            demo.inspections,
            f"seq, 1 + floor({demo.hives} * {_chance('h')}), {_ZONE}, "
            f"{_BEGIN} + INTERVAL floor(seq / {demo.inspections} * 423) DAY, floor(16 * power({_chance('v')}, 4)), "
            "elt(1 + crc32(seq) % 12, 'queen seen', 'queen not seen', 'brood patchy', 'stores low')",
        ),
    }


def load(session: Session, demo: Demo, tell: Tell) -> None:
    """Makes the database and fills it; tell hears how far it is."""
    with session.explained("load the demo data"):
        for statement in TABLES:
            session.execution.run(statement)
        for table, (count, columns) in _rows(demo).items():
            for first in range(1, count + 1, CHUNK):
                last = min(count, first + CHUNK - 1)
                session.execution.run(
                    f"INSERT INTO apiary.{table} SELECT {columns} FROM apiary.seq_{first}_to_{last} ORDER BY seq"
                )
                tell(f"loading {table}: {last:,} rows of {count:,}")
            session.execution.run(f"ANALYZE TABLE apiary.{table}")


WRITES = (
    "INSERT INTO apiary.reading (reading_id, hive_id, taken_at, weight_kg, humidity_pct, sound_db) "
    "VALUES (-1, 1, '2026-02-28 12:00', 31.5, 60, 41)",
    "UPDATE apiary.reading SET taken_at = '2026-01-15 12:00', weight_kg = 31.6 WHERE reading_id = -1",
    "DELETE FROM apiary.reading WHERE reading_id = -1",
)

FILE = LAYOUTS.replace('schema = "apiary"  ', 'schema = "apiary_ledger"')

WORKLOAD = """\
-- The federation's workload. `touches` is what each query may cost in partitions.

-- name: hive-last-day
-- touches: <= 2
-- weight: 4000
SELECT taken_at, weight_kg, brood_c FROM apiary.reading
WHERE hive_id = 17 AND taken_at >= '2026-02-27' AND taken_at < '2026-02-28' ORDER BY taken_at;

-- name: dashboard-yesterday
-- touches: <= 1
-- weight: 60
SELECT count(*), avg(brood_c), max(sound_db) FROM apiary.reading
WHERE taken_at >= '2026-02-27' AND taken_at < '2026-02-28';

-- name: month-report
-- touches: <= 1
-- weight: 240
SELECT hive_id, avg(weight_kg), min(brood_c) FROM apiary.reading
WHERE taken_at >= '2026-01-01' AND taken_at < '2026-02-01' GROUP BY hive_id ORDER BY 2 DESC LIMIT 20;

-- name: month-report-by-format
-- touches: <= 1
-- weight: 4
SELECT count(*), avg(weight_kg) FROM apiary.reading WHERE date_format(taken_at, '%Y-%m') = '2026-01';

-- name: year-report
-- touches: <= 12
-- weight: 1
SELECT count(*), avg(humidity_pct) FROM apiary.reading WHERE year(taken_at) = 2025;

-- name: one-day-by-date
-- touches: <= 1
-- weight: 6
SELECT count(*) FROM apiary.reading WHERE date(taken_at) = '2026-02-14';

-- name: february-with-bare-dates
-- touches: <= 1
-- weight: 10
SELECT count(*) FROM apiary.reading WHERE taken_at BETWEEN '2026-02-01' AND '2026-02-28';

-- name: hive-without-time
-- weight: 200
SELECT max(taken_at), count(*) FROM apiary.reading WHERE hive_id = 17;

-- name: reading-by-number
-- weight: 900
SELECT * FROM apiary.reading WHERE reading_id = 123456;

-- name: since-yesterday
-- touches: <= 8
-- weight: 100
SELECT count(*) FROM apiary.reading WHERE taken_at >= now() - INTERVAL 1 DAY;

-- name: prepared-day
-- params: 17, '2026-02-10', '2026-02-11'
-- touches: <= 1
-- weight: 3000
SELECT avg(weight_kg) FROM apiary.reading WHERE hive_id = ? AND taken_at >= ? AND taken_at < ?;

-- name: two-single-days
-- touches: <= 2
-- weight: 60
SELECT count(*) FROM apiary.reading
WHERE (taken_at >= '2025-07-01' AND taken_at < '2025-07-02') OR (taken_at >= '2026-01-01' AND taken_at < '2026-01-02');

-- name: coop-of-readings
-- touches: <= 1
-- weight: 240
SELECT h.coop_id, avg(r.weight_kg) FROM apiary.reading r JOIN apiary.hive h USING (hive_id)
WHERE r.taken_at >= '2026-02-01' AND r.taken_at < '2026-03-01' AND h.zone_code = 'A1'
GROUP BY h.coop_id ORDER BY h.coop_id;

-- name: correct-a-sensor
-- touches: <= 1
-- weight: 3
UPDATE apiary.reading SET brood_c = brood_c - 0.4
WHERE hive_id = 7 AND taken_at >= '2026-02-03' AND taken_at < '2026-02-04';

-- name: coop-feed
-- touches: <= 1
-- weight: 2000
SELECT occurred_at, kind, amount_kg FROM apiary.coop_event WHERE coop_id = 5 ORDER BY occurred_at DESC LIMIT 50;

-- name: three-coops
-- touches: <= 3
-- weight: 40
SELECT coop_id, count(*) FROM apiary.coop_event WHERE coop_id IN (3, 14, 15) GROUP BY coop_id ORDER BY coop_id;

-- name: inspections-alpine
-- touches: <= 1
-- weight: 40
SELECT inspected_on, avg(varroa_count) FROM apiary.inspection WHERE zone_code = 'A2' GROUP BY 1 ORDER BY 1;

-- name: inspections-lower-case
-- touches: <= 1
-- weight: 10
SELECT count(*) FROM apiary.inspection WHERE lower(zone_code) = 'a1';
"""

PROOFS = """
-- name: february
-- touches: <= 1
SELECT count(*) FROM apiary.reading WHERE taken_at >= '2026-02-01' AND taken_at < '2026-03-01';
-- name: february-by-format
-- touches: <= 1
SELECT count(*) FROM apiary.reading WHERE date_format(taken_at, '%Y-%m') = '2026-02';
-- name: a-hive
SELECT max(weight_kg) FROM apiary.reading WHERE hive_id = 17;
"""


STAGES = (
    Stage(
        "Look",
        "What is in the table, and how many readings each month holds. The result is kept, to be compared later.",
        (step("survey apiary.reading --exact --save survey.json"),),
    ),
    Stage(
        "Weigh",
        "Layouts, and the table as it is, against the federation's workload. Readings are kept for 13 months.",
        (
            step(
                "weigh apiary.reading --workload workload.sql --now 2026-03-01 --save weigh.json",
                more=("--keep", "13 months"),
            ),
        ),
    ),
    Stage(
        "Forecast",
        "The layout file declares months. The partitions that it gives, before any of them exists.",
        (step("forecast apiary.reading --now 2026-03-01 --save forecast.json"),),
    ),
    Stage(
        "Convert",
        "The plain tables become partitioned ones, while they are read and written: a sensor gateway goes on writing "
        "readings meanwhile. The server's own ALTER would keep it out for the whole copy. Rows are counted and "
        "fingerprinted before the names are exchanged; the old tables stay, and get what is written from then on.",
        (
            step("convert apiary.reading --now 2026-03-01", (1,), "It would change something: nothing was done yet."),
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
        "The same queries on the table as it was and as it is now: what got faster, and what got slower.",
        (
            step(
                "compare apiary.reading --with apiary.reading_before --queries workload.sql --times 2 --quiet "
                "--save compare.json"
            ),
        ),
    ),
    Stage(
        "Route",
        "The partition that a row with a given key belongs to, as this server computes it.",
        (
            step("route apiary.reading 2026-03-01T00:00:00 2026-02-28T23:59:59 2024-12-31T23:59:59 2031-01-01"),
            step("route apiary.coop_event 1 5 240"),
            step("route apiary.inspection A1 C3 H1"),
        ),
    ),
    Stage(
        "Prove",
        "The partitions that each query of the workload touches, according to the server's optimiser. A function "
        "around the key never prunes here.",
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
        "The next night: the coming partition is cut out of the empty catch-all, and the month that is past `keep` "
        "leaves as a table, in a moment. Then an old month is divided, and put together again.",
        (
            step("tend apiary.reading --now 2026-03-02 --pretend --go --save tend.json"),
            step("split apiary.reading_2025_03 --at 2025-03-16 --go"),
            step("merge apiary.reading_2025_03_01 apiary.reading_2025_03_16 --go"),
            step("history --most 3"),
        ),
    ),
    Stage(
        "Report",
        "All of it on one page, for those who were not there.",
        (
            step(
                "report survey.json weigh.json forecast.json convert.json census.json compare.json prove.json "
                "tend.json "
                "--out report.html"
            ),
        ),
    ),
)

NEXT = (
    "slabrow survey apiary.coop_event",
    "slabrow prove --queries workload.sql --run apiary.reading",
    "slabrow convert apiary.reading --undo",
    "slabrow index apiary.inspection",
)

NEXT_WHEN_PLAIN = (
    "slabrow survey apiary.coop_event",
    "slabrow forecast apiary.reading --now 2026-03-01",
    "slabrow convert apiary.reading --now 2026-03-01",
)
