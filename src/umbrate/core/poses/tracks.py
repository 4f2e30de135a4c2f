"""Tracks: the sightings of one place in many photos, joined from matches of two."""

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..forest import root


@dataclass(frozen=True)
class Tracks:
    """Sightings grouped by track.

    Attributes
    ----------
    start : (t + 1,) int64
        Sightings of track i are rows ``start[i]:start[i + 1]``.
    photo, feature : (k,) int64
        Photo of each sighting and the row of its key point there.
    """

    start: np.ndarray
    photo: np.ndarray
    feature: np.ndarray

    def __len__(self):
        return len(self.start) - 1


@njit(cache=True, nogil=True)
def _join(a, b, parent, holds):
    """Union of matched nodes, but never of two groups that hold the same photo; returns how many were refused."""
    refused = 0
    for k in range(a.shape[0]):
        i, j = root(parent, a[k]), root(parent, b[k])
        if i == j:
            continue
        clash = False
        for w in range(holds.shape[1]):
            if holds[i, w] & holds[j, w]:
                clash = True
                break
        if clash:
            refused += 1
            continue
        if j < i:
            i, j = j, i
        parent[j] = i
        for w in range(holds.shape[1]):
            holds[i, w] |= holds[j, w]
    return refused


def build_tracks(counts, matches):
    """Join matches into tracks.

    A false match would put two key points of one photo into one track. Matches of the photo pairs
    that share most come first, and a match that leads to such a contradiction is left out: it costs
    itself, not the tracks it touches.

    Parameters
    ----------
    counts : sequence of int
        Number of key points of each photo.
    matches : dict of (i, j) to (k, 2) int arrays
        Verified matches of photo pairs.

    Returns
    -------
    Tracks
        With two or more photos each, ordered by their first sighting.
    """
    base = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    pairs = sorted(matches, key=lambda p: (-len(matches[p]), p))
    if not pairs:
        return Tracks(np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64))
    a = np.concatenate([matches[p][:, 0].astype(np.int64) + base[p[0]] for p in pairs])
    b = np.concatenate([matches[p][:, 1].astype(np.int64) + base[p[1]] for p in pairs])
    node, place = np.unique(np.concatenate([a, b]), return_inverse=True)
    photo = np.searchsorted(base, node, side="right") - 1
    holds = np.zeros((len(node), (len(counts) + 63) // 64), np.uint64)
    holds[np.arange(len(node)), photo // 64] = np.uint64(1) << (photo % 64).astype(np.uint64)
    parent = np.arange(len(node))
    _join(place[: len(a)], place[len(a) :], parent, holds)
    track = np.array([root(parent, i) for i in range(len(node))])
    order = np.lexsort((photo, track))
    node, photo, track = node[order], photo[order], track[order]
    keep = np.bincount(track, minlength=len(node))[track] >= 2
    node, photo, track = node[keep], photo[keep], track[keep]
    first = np.flatnonzero(np.r_[True, track[1:] != track[:-1]]) if len(track) else np.zeros(0, np.int64)
    return Tracks(
        np.append(first, len(track)).astype(np.int64), photo.astype(np.int64), (node - base[photo]).astype(np.int64)
    )
