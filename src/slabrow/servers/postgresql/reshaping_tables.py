"""The tables that hold the state of long work, in the ledger's schema.

reshaping         one row for each work: a table whose layout is being changed
reshaping_source  the tables that hold the rows, and the file of each: a rewritten table has another file
reshaping_piece   the pieces of the copy: blocks from `low`, included, to `high`, not included
reshaping_mark    the parts that are done
"""

TABLES = (
    """CREATE TABLE {schema}.reshaping (
        job bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
        kind text NOT NULL,
        way text NOT NULL,
        table_name text NOT NULL,
        old_name text NOT NULL,
        layout text NOT NULL,
        state text NOT NULL DEFAULT 'begun',
        began timestamptz NOT NULL DEFAULT clock_timestamp(),
        ended timestamptz,
        horizon xid,
        is_listed boolean NOT NULL DEFAULT false,
        floor bigint NOT NULL DEFAULT 0,
        ceiling bigint NOT NULL DEFAULT 0,
        ceiling_xid xid8 NOT NULL DEFAULT '0',
        open_transactions text[],
        compared jsonb,
        rows_total bigint,
        longest_lock_ms double precision NOT NULL DEFAULT 0,
        details jsonb NOT NULL DEFAULT '{{}}')""",
    "CREATE UNIQUE INDEX ON {schema}.reshaping (table_name) WHERE ended IS NULL",
    """CREATE TABLE {schema}.reshaping_source (
        job bigint NOT NULL REFERENCES {schema}.reshaping ON DELETE CASCADE,
        relation oid NOT NULL,
        filenode oid,
        blocks bigint NOT NULL,
        PRIMARY KEY (job, relation))""",
    """CREATE TABLE {schema}.reshaping_piece (
        job bigint NOT NULL REFERENCES {schema}.reshaping ON DELETE CASCADE,
        piece bigint NOT NULL,
        relation oid NOT NULL,
        low bigint NOT NULL,
        high bigint NOT NULL,
        is_done boolean NOT NULL DEFAULT false,
        row_count bigint,
        PRIMARY KEY (job, piece))""",
    "CREATE INDEX ON {schema}.reshaping_piece (job, piece) WHERE NOT is_done",
    """CREATE TABLE {schema}.reshaping_mark (
        job bigint NOT NULL REFERENCES {schema}.reshaping ON DELETE CASCADE,
        what text NOT NULL,
        at timestamptz NOT NULL DEFAULT clock_timestamp(),
        PRIMARY KEY (job, what))""",
)
