"""The federation's day in queries: dashboards, reports and jobs, with the mistakes that people make."""

WORKLOAD = """\
-- The federation's workload. `touches` is what each query may cost in partitions.

-- name: hive-last-day
-- touches: <= 2
-- weight: 4000
SELECT taken_at, weight_kg, brood_c FROM apiary.reading
WHERE hive_id = 17 AND taken_at >= '2026-02-27 00:00+00' AND taken_at < '2026-02-28 00:00+00' ORDER BY taken_at;

-- name: hive-week-curve
-- touches: <= 2
-- weight: 1500
SELECT date_trunc('hour', taken_at) AS hour, avg(weight_kg) FROM apiary.reading
WHERE hive_id = 42 AND taken_at >= '2026-02-20 00:00+00' AND taken_at < '2026-02-27 00:00+00' GROUP BY 1 ORDER BY 1;

-- name: dashboard-yesterday
-- touches: <= 1
-- weight: 60
SELECT count(*), avg(brood_c), max(sound_db) FROM apiary.reading
WHERE taken_at >= '2026-02-27 00:00+00' AND taken_at < '2026-02-28 00:00+00';

-- name: month-report
-- touches: <= 1
-- weight: 240
SELECT hive_id, avg(weight_kg), min(brood_c) FROM apiary.reading
WHERE taken_at >= '2026-01-01 00:00+00' AND taken_at < '2026-02-01 00:00+00'
GROUP BY hive_id ORDER BY 2 DESC LIMIT 20;

-- name: month-report-by-trunc
-- touches: <= 1
-- weight: 4
SELECT count(*), avg(weight_kg) FROM apiary.reading WHERE date_trunc('month', taken_at) = '2026-01-01 00:00+00';

-- name: year-report-by-extract
-- touches: <= 12
-- weight: 1
SELECT count(*), avg(humidity_pct) FROM apiary.reading WHERE extract(year FROM taken_at) = 2025;

-- name: one-day-by-cast
-- touches: <= 1
-- weight: 6
SELECT count(*) FROM apiary.reading WHERE taken_at::date = '2026-02-14';

-- name: february-with-bare-dates
-- touches: <= 2
-- weight: 10
SELECT count(*) FROM apiary.reading WHERE taken_at BETWEEN '2026-02-01' AND '2026-02-28';

-- name: quarter-report
-- touches: <= 3
-- weight: 6
SELECT hive_id, count(*) FROM apiary.reading
WHERE taken_at >= '2025-10-01 00:00+00' AND taken_at < '2026-01-01 00:00+00'
GROUP BY hive_id ORDER BY 2 DESC, 1 LIMIT 10;

-- name: hive-without-time
-- weight: 200
SELECT max(taken_at), count(*) FROM apiary.reading WHERE hive_id = 17;

-- name: reading-by-number
-- weight: 900
SELECT * FROM apiary.reading WHERE reading_id = 1234567;

-- name: all-time-extremes
-- weight: 1
SELECT min(weight_kg), max(weight_kg), count(*) FROM apiary.reading;

-- name: latest-of-a-hive
-- weight: 600
SELECT taken_at, weight_kg FROM apiary.reading WHERE hive_id = 99 ORDER BY taken_at DESC LIMIT 1;

-- name: since-yesterday
-- touches: <= 8
-- weight: 100
SELECT count(*) FROM apiary.reading WHERE taken_at >= now() - interval '1 day';

-- name: prepared-day
-- params: 17, '2026-02-10 00:00+00', '2026-02-11 00:00+00'
-- touches: <= 1
-- weight: 3000
SELECT avg(weight_kg) FROM apiary.reading WHERE hive_id = $1 AND taken_at >= $2 AND taken_at < $3;

-- name: prepared-hives
-- params: '{17,42,99}', '2026-02-01 00:00+00'
-- touches: <= 8
-- weight: 400
SELECT hive_id, max(sound_db) FROM apiary.reading WHERE hive_id = ANY ($1::int[]) AND taken_at >= $2
GROUP BY hive_id ORDER BY hive_id;

-- name: two-single-days
-- touches: <= 2
-- weight: 60
SELECT count(*) FROM apiary.reading
WHERE (taken_at >= '2025-07-01 00:00+00' AND taken_at < '2025-07-02 00:00+00')
   OR (taken_at >= '2026-01-01 00:00+00' AND taken_at < '2026-01-02 00:00+00');

-- name: or-without-time
-- touches: <= 2
-- weight: 2
SELECT count(*) FROM apiary.reading WHERE taken_at >= '2026-02-25 00:00+00' OR sound_db > 90;

-- name: coop-of-readings
-- touches: <= 1
-- weight: 240
SELECT h.coop_id, avg(r.weight_kg) FROM apiary.reading r JOIN apiary.hive h USING (hive_id)
WHERE r.taken_at >= '2026-02-01 00:00+00' AND r.taken_at < '2026-03-01 00:00+00' AND h.zone_code = 'A1'
GROUP BY h.coop_id ORDER BY h.coop_id;

-- name: days-of-a-list
-- weight: 2
SELECT d.day, count(r.reading_id) FROM (VALUES ('2026-01-05'::timestamptz), ('2026-01-06')) d (day)
JOIN apiary.reading r ON r.taken_at >= d.day AND r.taken_at < d.day + interval '1 day' GROUP BY d.day ORDER BY d.day;

-- name: night-shift-local-time
-- touches: <= 1
-- weight: 2
SELECT count(*) FROM apiary.reading WHERE (taken_at AT TIME ZONE 'Europe/Berlin')::date = '2026-02-14';

-- name: month-by-text
-- touches: <= 1
-- weight: 2
SELECT count(*) FROM apiary.reading WHERE to_char(taken_at, 'YYYY-MM') = '2025-12';

-- name: correct-a-sensor
-- touches: <= 1
-- weight: 3
UPDATE apiary.reading SET brood_c = brood_c - 0.4
WHERE hive_id = 7 AND taken_at >= '2026-02-03 00:00+00' AND taken_at < '2026-02-04 00:00+00';

-- name: coop-feed
-- touches: <= 1
-- weight: 2000
SELECT occurred_at, kind, amount_kg FROM apiary.coop_event WHERE coop_id = 5 ORDER BY occurred_at DESC LIMIT 50;

-- name: coop-honey
-- touches: <= 1
-- weight: 300
SELECT kind, sum(amount_kg) FROM apiary.coop_event WHERE coop_id = 1 GROUP BY kind ORDER BY kind;

-- name: three-coops
-- touches: <= 3
-- weight: 40
SELECT coop_id, count(*) FROM apiary.coop_event WHERE coop_id IN (3, 14, 15) GROUP BY coop_id ORDER BY coop_id;

-- name: coop-range
-- weight: 5
SELECT count(*) FROM apiary.coop_event WHERE coop_id BETWEEN 10 AND 20;

-- name: events-of-a-day
-- weight: 24
SELECT kind, count(*) FROM apiary.coop_event
WHERE occurred_at >= '2026-02-14 00:00+00' AND occurred_at < '2026-02-15 00:00+00' GROUP BY kind ORDER BY kind;

-- name: inspections-alpine
-- touches: <= 1
-- weight: 40
SELECT inspected_on, avg(varroa_count) FROM apiary.inspection WHERE zone_code = 'A2' GROUP BY 1 ORDER BY 1;

-- name: inspections-not-alpine
-- touches: <= 2
-- weight: 10
SELECT zone_code, count(*) FROM apiary.inspection WHERE zone_code IN ('C1', 'C2', 'H1') GROUP BY 1 ORDER BY 1;

-- name: inspections-lower-case
-- touches: <= 1
-- weight: 10
SELECT count(*) FROM apiary.inspection WHERE lower(zone_code) = 'a1';

-- name: varroa-alarm
-- weight: 100
SELECT hive_id, varroa_count FROM apiary.inspection
WHERE inspected_on >= '2026-02-01' AND varroa_count > 10 ORDER BY varroa_count DESC, hive_id, inspection_id LIMIT 20;
"""

# A few queries with something to say about each: `prove` shows all that it can say of them on one page.
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
