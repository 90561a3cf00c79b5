"""The tables that hold the state of long work, in the ledger's database.

reshaping       one row for each work: a table whose layout is being changed; `open_for` is unique, so one table has one
reshaping_mark  the parts that are done
"""

TABLES = (
    """CREATE TABLE IF NOT EXISTS {schema}.reshaping (
        job bigint NOT NULL AUTO_INCREMENT PRIMARY KEY,
        kind varchar(20) NOT NULL,
        way varchar(20) NOT NULL,
        table_name varchar(400) NOT NULL,
        old_name varchar(400) NOT NULL,
        layout longtext NOT NULL,
        state varchar(20) NOT NULL DEFAULT 'begun',
        began datetime(6) NOT NULL DEFAULT utc_timestamp(6),
        ended datetime(6),
        open_for varchar(400) AS (IF(ended IS NULL, table_name, NULL)) PERSISTENT,
        made_at varchar(40),
        compared longtext,
        compared_at datetime(6),
        rows_total bigint,
        longest_lock_ms double NOT NULL DEFAULT 0,
        details longtext NOT NULL,
        UNIQUE KEY (open_for)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE IF NOT EXISTS {schema}.reshaping_mark (
        job bigint NOT NULL,
        what varchar(100) NOT NULL,
        at datetime(6) NOT NULL DEFAULT utc_timestamp(6),
        PRIMARY KEY (job, what)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
)
