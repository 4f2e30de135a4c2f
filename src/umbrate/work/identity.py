"""What a process computes with, in a few letters: two that are to give the same bits must have the same."""

import hashlib
import platform
from functools import lru_cache
from importlib.metadata import version
from pathlib import Path

from .. import __version__

LIBRARIES = ("numpy", "scipy", "numba", "llvmlite", "pillow", "rawpy", "scikit-image", "distributed")


@lru_cache(1)
def identity():
    """Umbrate's version with a hash of its code, and those of Python and of the libraries that compute: a dict."""
    root, code = Path(__file__).resolve().parents[1], hashlib.sha256()
    for f in sorted(root.rglob("*.py")):
        code.update(str(f.relative_to(root)).encode() + b"\0" + f.read_bytes())
    return {
        "Umbrate": f"{__version__} ({code.hexdigest()[:8]})",
        "Python": platform.python_version(),
        **{name: version(name) for name in LIBRARIES},
    }


def differences(mine, theirs):
    """What is not the same, in words; empty where all is."""
    return ", ".join(f"{k} {theirs.get(k, 'missing')} instead of {v}" for k, v in mine.items() if theirs.get(k) != v)
