"""Tests of `core/calendars`."""
