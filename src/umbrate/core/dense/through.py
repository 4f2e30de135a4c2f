"""Free space: what photos saw through, from their depth maps.

A place that lies well before what a photo shows on its ray is empty. Only pixels count whose depth other photos
confirmed, so one photo's mistake carves nothing; and all four pixels round the ray must agree, as beside an outline the
ray may meet either side. Of what lies behind what they show photos tell nothing: it is neither empty nor full.
(As the line-of-sight constraint of Curless and Levoy 1996, asked place by place instead of written into every cell.)
"""

import mmap
from dataclasses import dataclass

import numpy as np
from numba import njit

from ..cloud.grid import in_threads

CLEAR, FULLY_CLEAR = 0.5, 1.5  #: margins: before what is seen, from where a photo counts, and counts fully
ENOUGH = 2.0  #: photos that count fully, for a place to be empty for sure


@njit(cache=True, nogil=True, error_model="numpy")
def _through(places, maps, margin, room, sure, first, last):
    """Of places: how far before what is seen they are at most in any photo that sees through, and how surely."""
    depth, K, E = maps
    n, h, w = depth.shape
    for p in range(first, last):
        X, Y, Z = places[p, 0], places[p, 1], places[p, 2]
        votes, least = 0.0, np.inf
        for j in range(n):
            z = E[j, 2, 0] * X + E[j, 2, 1] * Y + E[j, 2, 2] * Z + E[j, 2, 3]
            if z <= 0:
                continue
            u = K[j, 0] * (E[j, 0, 0] * X + E[j, 0, 1] * Y + E[j, 0, 2] * Z + E[j, 0, 3]) / z + K[j, 1]
            v = K[j, 0] * (E[j, 1, 0] * X + E[j, 1, 1] * Y + E[j, 1, 2] * Z + E[j, 1, 3]) / z + K[j, 2]
            if not (u >= 0 and v >= 0 and u < w - 1 and v < h - 1):
                continue
            a, b = int(u), int(v)
            near = np.inf
            for k in range(4):
                c, r = a + k % 2, b + k // 2
                near = min(near, depth[j, r, c]) if depth[j, r, c] > 0 else -np.inf
            clear = near - z
            if clear <= CLEAR * margin:
                continue
            votes += min((clear / margin - CLEAR) / (FULLY_CLEAR - CLEAR), 1.0)
            least = min(least, clear)
        room[p] = least
        sure[p] = min(votes / ENOUGH, 1.0)


@dataclass
class FreeSpace:
    """Depth maps as witnesses of what is empty.

    Attributes
    ----------
    depth : (n, h, w) float32
        Of pixels whose depth other photos have too, 0 of others. May be a mapped file: then no more of it is in memory
        than a call looks at.
    K : (n, 3)
        f, cx, cy.
    poses : (n, 4, 4)
    """

    depth: np.ndarray
    K: np.ndarray
    poses: np.ndarray

    def at(self, places, margin):
        """Which places are empty.

        Parameters
        ----------
        places : (k, 3)
        margin : float
            In the places' unit: a place that is this far before what a photo shows is seen through by it.

        Returns
        -------
        room : (k,) float32
            How far it is to what is seen behind a place, the least of all photos; infinite where none sees through.
        sure : (k,) float32
            From 0, nothing is known, to 1, empty.
        """
        places = np.ascontiguousarray(places, np.float64)
        room, sure = np.empty(len(places), np.float32), np.empty(len(places), np.float32)
        maps = (np.asarray(self.depth), np.asarray(self.K, float), np.asarray(self.poses, float))
        in_threads(_through, len(places), places, maps, float(margin), room, sure)
        if isinstance(self.depth, np.memmap):
            self.depth._mmap.madvise(mmap.MADV_DONTNEED)
        return room, sure
