"""Names, key values, time zones, periods of the calendar, and the errors."""
