"""How a finding looks as JSON."""

from slabrow.core.upkeep.findings import Finding
from slabrow.show.output import Json


def finding_data(finding: Finding) -> Json:
    """A finding as JSON."""
    return {"code": finding.code, "text": finding.text, "partition": finding.partition}
