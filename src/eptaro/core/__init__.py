"""The heart: calendars, spans, the fold and the verbs; NumPy and the standard library only."""
