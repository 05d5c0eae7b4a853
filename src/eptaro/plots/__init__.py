"""Pictures, by Matplotlib."""

from typing import Literal, TypeAlias

ThemeName: TypeAlias = Literal["light", "dark", "print"]
