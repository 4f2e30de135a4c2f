"""Groups of things that belong together, kept as a forest: each thing points at another of its group or at itself.

Finding who stands for a group halves the way there for the next time (Tarjan and van Leeuwen 1984).
"""

from numba import njit


@njit(cache=True, nogil=True)
def root(parent, k):
    """The thing that stands for all of k's group; `parent` (n,) int is shortened on the way."""
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k
