"""Whether kernels can be compiled here; where not, NumPy gives the same numbers more slowly."""

from __future__ import annotations

from functools import cache

from rhodolite.kernels.notices import tell


@cache
def can_compile() -> bool:
    """Return whether Numba is installed, and say so once where it is missed."""
    try:
        import numba  # noqa: F401
    except ImportError:
        tell(
            "this is many times as fast with compiled kernels, for which numba is needed: "
            "pip install 'rhodolite[compiled]'"
        )
        return False
    return True
