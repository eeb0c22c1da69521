"""The few special functions that the inference needs, without the whole package of them.

Importing `scipy.special` takes longer than a whole comparison: it loads support for other kinds of
arrays, and with that the compiler of Fortran and the tools of tests that NumPy has. The functions
themselves are in one compiled module of it. Where that cannot be loaded alone, as in another
version of SciPy, the package is.
"""

from __future__ import annotations

import importlib
import sys
from types import ModuleType
from typing import Any

import scipy

_PACKAGE = "scipy.special"
_NAMES = ("chdtri", "fdtrc", "nctdtr", "ndtr", "stdtr", "stdtrit")


def _compiled() -> ModuleType:
    """The compiled module, in a bare package that stands in for the real one meanwhile."""
    bare = ModuleType(_PACKAGE)
    bare.__path__ = [f"{place}/special" for place in scipy.__path__]
    sys.modules[_PACKAGE] = bare
    try:
        return importlib.import_module(f"{_PACKAGE}._ufuncs")
    finally:
        del sys.modules[_PACKAGE]


def _load() -> dict[str, Any]:
    """The functions by name."""
    if _PACKAGE not in sys.modules:
        try:
            compiled = _compiled()
            return {name: getattr(compiled, name) for name in _NAMES}
        except (ImportError, AttributeError):
            pass  # another version keeps them elsewhere; the package always has them
    from scipy import special

    return {name: getattr(special, name) for name in _NAMES}


_functions = _load()
# Each as the public function of the same name: inverse of the chi-square distribution from above,
# upper tail of F, Student's t that is not central, normal, Student's t, and its inverse.
chdtri = _functions["chdtri"]
fdtrc = _functions["fdtrc"]
nctdtr = _functions["nctdtr"]
ndtr = _functions["ndtr"]
stdtr = _functions["stdtr"]
stdtrit = _functions["stdtrit"]
