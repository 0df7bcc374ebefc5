"""Closed-form matting by pymatting (A. Levin, D. Lischinski and Y. Weiss, A closed-form solution to natural image matting, IEEE PAMI 30, 2008)."""

import importlib
import importlib.util
import sys
import threading
from collections.abc import Callable
from functools import cache
from pathlib import Path
from types import ModuleType

import numpy as np

_PACKAGES = ("pymatting", "pymatting.alpha", "pymatting.laplacian", "pymatting.preconditioner", "pymatting.solver", "pymatting.util")
_importing = threading.Lock()


def estimate_alpha(picture: np.ndarray, trimap: np.ndarray) -> np.ndarray:
    """(h, w) float64, 0..1: the alpha of a picture.

    Parameters
    ----------
    picture : (h, w, 3) float64, 0..1.
    trimap : (h, w) float64: 0 and 1 where alpha is known, 0.5 where it is asked for.
    """
    with _importing:
        estimator = _estimator()
    return np.asarray(estimator(picture, trimap))


@cache
def _estimator() -> Callable[[np.ndarray, np.ndarray], np.ndarray]:
    """pymatting's function, without the rest of the package.

    `import pymatting` compiles all of its methods when it is first used on a machine, a minute and a half; this one needs a tenth of them. So its
    packages are stood in for by empty ones, whose modules can be imported singly, until it is there.
    """
    name = "pymatting.alpha.estimate_alpha_cf"
    found = importlib.util.find_spec("pymatting")
    if "pymatting" in sys.modules or found is None or found.origin is None:
        return importlib.import_module(name).estimate_alpha_cf  # type: ignore[no-any-return]
    root = Path(found.origin).parent
    for package in _PACKAGES:
        empty = ModuleType(package)
        empty.__path__ = [str(root.joinpath(*package.split(".")[1:]))]
        sys.modules[package] = empty
    try:
        return importlib.import_module(name).estimate_alpha_cf  # type: ignore[no-any-return]
    finally:
        for package in _PACKAGES:
            del sys.modules[package]
