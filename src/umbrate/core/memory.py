"""How much memory there is: large pictures and depth maps are refused, or made smaller, before they fill it."""

import math
from pathlib import Path


def free_memory():
    """Bytes that can be had without swapping; infinite where the system does not say."""
    try:
        for line in Path("/proc/meminfo").read_text(encoding="ascii").splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) * 1024.0
    except (OSError, ValueError, IndexError):
        pass
    return math.inf
