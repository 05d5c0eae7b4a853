"""One plain sentence with the answer of each question; `headline` is where to begin."""

from typing import Literal, TypeAlias

ThemeName: TypeAlias = Literal["light", "dark", "print"]  # of pictures
