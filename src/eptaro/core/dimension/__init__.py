"""The date dimension: a catalogue of declared attributes, gathered from calendars."""
