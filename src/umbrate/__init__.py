"""Umbrate reconstructs objects from masked photo sets."""

import os

__version__ = "0.1.0"

# read by numba when it is imported, which takes too long to do it here
os.environ.setdefault(
    "NUMBA_CACHE_LOCATOR_CLASSES", ",".join(f"umbrate.core.kernelcache.{x}" for x in ("Chosen", "Beside", "OfUser"))
)
