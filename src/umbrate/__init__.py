"""Umbrate reconstructs objects from masked photo sets."""

import os
import sys

__version__ = "0.1.0"

# read by numba when it is imported, which takes too long to do it here
_where = ",".join(f"umbrate.core.kernelcache.{name}" for name in ("Chosen", "Beside", "OfUser"))
os.environ.setdefault("NUMBA_CACHE_LOCATOR_CLASSES", _where)
if "numba" in sys.modules:  # somebody did before: it would take what is on disk for stale, and write it anew each time
    sys.modules["numba"].config.CACHE_LOCATOR_CLASSES = os.environ["NUMBA_CACHE_LOCATOR_CLASSES"]
