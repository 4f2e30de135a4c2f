"""The coded target: a dark dot that can be measured, in a ring that says which one it is.

The ring has 24 sectors and two tracks. In each sector one of the tracks is dark, the inner one for a 1, the
outer one for a 0, so every bit is the *difference* of two places side by side: shade across the target, a dark
print or a bright one change both alike and no threshold has to be guessed. A ring in which some sector shows
no difference is no ring, which is why leaves and gravel are not taken for targets.

Words are read from any starting sector. The 255 words differ from each other, and from themselves turned, in
six sectors or more whatever the starting sectors are: two wrong readings are mended, three are noticed, and the
turn of the target is known besides.

Lengths are in radii of the dot. Angles grow from x towards y in a picture whose y points down: clockwise for
somebody who looks at the print. docs/targets.md has a drawing.
"""

import numpy as np
from numba import njit

from .words import WORDS

BITS = 24
DISTANCE = 6  #: sectors in which two words differ at least, whatever their turns
MENDED = 2  #: wrong readings that are mended
COUNT = len(WORDS)
INNER, OUTER = (1.7, 2.4), (2.4, 3.1)  #: radii between which the tracks lie
REACH = 3.5  #: the white around the ring reaches so far
_FULL = (1 << BITS) - 1


@njit(cache=True, nogil=True)
def _ones(x):
    n = 0
    while x:
        x &= x - 1
        n += 1
    return n


@njit(cache=True, nogil=True)
def _turned(x, k):
    return ((x << k) | (x >> (BITS - k))) & _FULL


@njit(cache=True)
def _longest_run(x):
    longest, length, before = 0, 0, -1
    for k in range(2 * BITS):
        bit = x >> (k % BITS) & 1
        length = length + 1 if bit == before else 1
        before = bit
        longest = max(longest, length)
    return longest


@njit(cache=True)
def find_words(distance, lightest, heaviest, longest):
    """Words in rising order, each taken if it keeps the distance to itself turned and to all before it.

    Returns
    -------
    (n,) int64
        Of each word the smallest of its turns; between `lightest` and `heaviest` of its bits are set, and no
        more than `longest` neighbors are alike, so that every ring has many edges.
    """
    words = np.empty((4096, BITS), np.int64)
    n = 0
    for x in range(1 << BITS):
        ones = _ones(x)
        if ones < lightest or ones > heaviest or _longest_run(x) > longest:
            continue
        good = True
        for k in range(1, BITS):
            r = _turned(x, k)
            if r < x or _ones(r ^ x) < distance:
                good = False
                break
        for j in range(n if good else 0):
            for k in range(BITS):
                if _ones(words[j, k] ^ x) < distance:
                    good = False
                    break
            if not good:
                break
        if good:
            for k in range(BITS):
                words[n, k] = _turned(x, k)
            n += 1
    return words[:n, 0].copy()


@njit(cache=True, nogil=True)
def _nearest(word, words):
    best, number, turn = BITS + 1, -1, 0
    for j in range(words.shape[0]):
        for k in range(BITS):
            d = _ones(_turned(words[j], k) ^ word)
            if d < best:
                best, number, turn = d, j, k
    return number, turn, best


_WORDS = np.array(WORDS, np.int64)


def bits_of(number):
    """The bits (24,) bool of a target, sector by sector.

    Raises
    ------
    ValueError
        When there is no target of that number.
    """
    if not 0 <= number < COUNT:
        raise ValueError(f"there is no target {number}: they are numbered from 0 to {COUNT - 1}")
    return np.array([WORDS[number] >> k & 1 for k in range(BITS)], bool)


def nearest_word(bits):
    """The target whose ring agrees best with bits (24,) that were read from an unknown sector on.

    Returns
    -------
    number : int
    turn : int
        Sector of the target at which the reading began: ``bits[k]`` is bit ``(k + turn) % 24`` of the target.
    errors : int
        Sectors that disagree; up to `MENDED` of them the number can be trusted.
    """
    word = 0
    for k, b in enumerate(bits):
        word |= int(bool(b)) << k
    number, left, errors = _nearest(word, _WORDS)
    return number, (BITS - left) % BITS, errors


def dark_sectors(number):
    """The dark parts of a target's ring: (first radius, last radius, first angle, last angle), angles in radians.

    Sectors that touch in one track are one part.
    """
    bits, step, out = bits_of(number), 2 * np.pi / BITS, []
    for track, value in ((INNER, True), (OUTER, False)):
        start = next((k for k in range(BITS) if bits[k] == value and bits[k - 1] != value), None)
        k = start
        while k is not None and k < start + BITS:
            length = 0
            while bits[(k + length) % BITS] == value:
                length += 1
            if length:
                out.append((*track, k * step, (k + length) * step))
            k += length + 1 if length else 1
    return out


def is_dark(number, x, y):
    """Whether points (radii of the dot from its center) are dark: the target as a formula, for drawing it."""
    r, a = np.hypot(x, y), np.mod(np.arctan2(y, x), 2 * np.pi)
    sector = np.minimum((a / (2 * np.pi) * BITS).astype(int), BITS - 1)
    bit = bits_of(number)[sector]
    ring = np.where(bit, (r >= INNER[0]) & (r < INNER[1]), (r >= OUTER[0]) & (r < OUTER[1]))
    return (r < 1) | ring
