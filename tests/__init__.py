"""The tests; none of them fails for being slow."""

from hypothesis import settings

from eptaro.inputs import sources

settings.register_profile("patient", deadline=None)
settings.load_profile("patient")
sources._ROWS = 30  # so that small tables are folded in several batches as well
