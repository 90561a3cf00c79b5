"""Which partition holds the rows that satisfy a condition, and the rows of one partition."""

from tests.test_redivision import HASHED, NOW, RedivisionTest


class FindRowsTest(RedivisionTest):
    def test_it_finds_what_the_server_finds(self):
        for by, parts in (("RANGE (taken_at)", None), ("HASH (hive_id)", HASHED)):
            self.fill(by, *([parts] if parts else []), rows=2_000)
            for condition in ("hive_id = 17", "taken_at >= '2025-11-01' AND taken_at < '2025-12-05'", "reading_id IN (5, 6)",
                              "note = 'it''s ) nowhere'", "true", "(hive_id = 3) OR (hive_id = 4 AND weight > 3)"):  # fmt: skip
                with self.subTest(by=by, condition=condition):
                    query = (
                        f"SELECT tableoid::regclass::text, count(*) FROM apiary.reading WHERE {condition} GROUP BY 1"
                    )
                    expected = dict(self.sql(query))
                    found = self.json("route", "apiary.reading", "--where", condition, code=0 if expected else 1)
                    self.assertEqual(expected, {each["partition"]: each["rows"] for each in found["partitions"]})
                    self.assertEqual(sum(expected.values()), found["rows"])
        self.assertEqual(1, self.json("route", "apiary.reading", "--where", "hive_id = 17")["leaves_read"])

    def test_only_one_condition_that_reads_is_asked(self):
        self.fill(rows=100)
        for code, condition in [
            (2, "hive_id = 1) OR (true"), (2, "true; DROP TABLE apiary.reading"), (2, "true -- and more"), (2, ""),
            (2, "note = 'open"), (2, "(true"), (4, "pg_sleep(0) IS NULL"), (4, "nextval(pg_get_serial_sequence('apiary.reading', 'reading_id')) > 0"),
            (3, "nowhere = 1"), (3, "hive_id"),
        ]:  # fmt: skip
            with self.subTest(condition):
                self.slabrow("route", "apiary.reading", "--where", condition, *NOW[:2], code=code)
        self.assertEqual(100, self.value("SELECT count(*) FROM apiary.reading"))

    def test_rows_of_one_partition(self):
        self.fill(rows=1_000)
        first = self.json("census", "apiary.reading_2025_03", "--first", "3")
        self.assertEqual((3, "2025-03-01 00:00:00+00:00"), (len(first["rows"]), first["from"]))
        row = dict(zip(first["columns"], first["rows"][0], strict=True))
        self.assertEqual(
            1, self.value("SELECT count(*) FROM apiary.reading_2025_03 WHERE reading_id = %s AND hive_id = %s",
                          row["reading_id"], row["hive_id"]))  # fmt: skip
        self.assertEqual(4, len(self.slabrow("census", "apiary.reading_2025_03", "--first", "3", "--format", "csv")
                                .stdout.splitlines()))  # fmt: skip
        self.assertIn("3 rows of it", self.slabrow("census", "apiary.reading_2025_03", "--first", "3").stdout)
        self.slabrow("census", "apiary.reading_2025_03", "--first", "0", code=2)
