"""Days cut into periods: levels, spans, calendars, workdays."""
