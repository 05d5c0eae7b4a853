"""The tests; none of them fails for being slow."""

from hypothesis import settings

settings.register_profile("patient", deadline=None)
settings.load_profile("patient")
