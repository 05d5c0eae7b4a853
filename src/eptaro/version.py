"""The version, the mark of the files that are a book's, and what this build is made of."""

from __future__ import annotations

__version__ = "0.1.0"
BOOK_MARK = b"eptaro-book"  # in the metadata of a Parquet file that is, or belongs to, a book


def kernel() -> str:
    """Return which kernel runs, `compiled` or `numpy`.

    >>> kernel() in ("compiled", "numpy")
    True
    """
    from eptaro.core.kernels.compiled import choose_kernel

    return choose_kernel()


def build_info() -> dict[str, str]:
    """Return the version, which kernel runs, and the versions of Python and NumPy.

    The kernel is `compiled`, or `numpy` where no compiler was at hand when Eptaro was
    installed, or where the environment variable `EPTARO_KERNEL` says so. Answers are the same.

    Returns
    -------
    dict
        `version`, `kernel`, `python` and `numpy`.

    Examples
    --------
    >>> import eptaro as ep
    >>> ep.build_info()["kernel"] in ("compiled", "numpy")
    True
    """
    import platform

    import numpy as np

    from eptaro.core.kernels.dispatch import KERNEL

    return {
        "version": __version__,
        "kernel": KERNEL,
        "python": platform.python_version(),
        "numpy": np.__version__,
    }
