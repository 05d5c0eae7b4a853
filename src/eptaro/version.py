"""The one place that holds the version."""

__version__ = "0.1.0"
