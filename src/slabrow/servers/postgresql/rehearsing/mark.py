"""The comment by which a rehearsal knows the schemas that it has made."""

MARK = "made by a rehearsal of slabrow; may go at any time"
