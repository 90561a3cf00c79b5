#!/bin/sh
# Lets a build fail when a query touches more partitions than its limit. For any build server that runs a shell and
# reads JUnit XML. Needs: schema.sql (the DDL with its partitions) and queries.sql (with `-- touches:` above each).
set -u
slabrow prove --offline --schema "${SCHEMA:-schema.sql}" --queries "${QUERIES:-queries.sql}" \
    --junit "${JUNIT:-slabrow-junit.xml}" --save "${RESULT:-slabrow-prove.json}"
code=$?
# 0: every limit holds. 1: one is broken. Anything else: it could not be proven, which is no pass either.
exit $code
