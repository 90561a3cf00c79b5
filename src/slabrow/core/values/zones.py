"""Time zones by name, from the system's database or the tzdata package."""

from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from slabrow.core.values.errors import UsageError, nearest


def parse_zone(name: str) -> ZoneInfo:
    """The zone of that name. Raises UsageError with the nearest one when there is none."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        near = nearest(name, available_timezones())
        fix = f"did you mean {near!r}?" if near else "use a name such as Europe/Berlin"
        raise UsageError(f"there is no time zone {name!r}", fix=fix) from None
