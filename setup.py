"""The compiled kernel, built where Cython and a compiler are at hand.

Everything else about the package stands in `pyproject.toml`. A build without a compiler goes
through too: Eptaro then runs its loops in NumPy.
"""

import sys
from pathlib import Path

from setuptools import Extension, setup

KERNELS = Path("src/eptaro/core/kernels/compiled")
FLAGS = (
    ["/O2"]
    if sys.platform == "win32"
    else ["-O3", "-Wall", "-Wextra", "-fno-math-errno", "-ffp-contract=off", "-g0"]
)

setup(
    ext_modules=[
        Extension(
            "eptaro.core.kernels.compiled.loops",
            [(KERNELS / "loops.pyx").as_posix()],
            depends=[part.as_posix() for part in KERNELS.glob("*.px[di]")],
            extra_compile_args=FLAGS,
            optional=True,  # without a compiler the build warns and goes on
        )
    ]
)
