"""Results on the screen: the answer in words, a table that fits, and where it comes from."""

from eptaro.cli.screen.show import deliver, show

__all__ = ["deliver", "show"]
