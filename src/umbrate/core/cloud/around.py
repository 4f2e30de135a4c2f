"""The points round a cell side by side: where its own points have their neighbors, eight at a time.

What lies in the 27 cells round one is copied once for all points of the cell, coordinate by coordinate, into a block:
an array (rows, room) float32 whose first three rows are x, y, z, and whose last takes squared distances. What fills the
last vector lies so far away that it is nobody's neighbor.
"""

import numpy as np
from numba import njit

from ..lanes import WIDTH, all_of, load, only_within, root_of, store, total

FAR = 1e12  #: where the points lie that fill the last vector: its square is a float32 still
ROOM = 512  #: points that a block has room for at first
CROSSED = 11.0  #: sides of a cell squared that surface has in the 27 cells round one, more or less
TRIES = 50  #: radii tried until one holds as many neighbors as are asked for
ALIKE = 1e-6  #: of squares of distances that count as equal


@njit(cache=True, nogil=True)
def new_block(rows, room):
    """A block with room for so many points."""
    return np.zeros((rows, room + WIDTH), np.float32)


@njit(cache=True, nogil=True)
def copied(values, lo, hi, block, at):
    """Copy rows of values (n, 3) from the runs lo, hi (9,) into three rows of a block from `at` on.

    Returns a block that has room for them (another one where there was none), and how many there are.
    """
    count = 0
    for r in range(9):
        count += hi[r] - lo[r]
    if count + WIDTH > block.shape[1]:
        block = new_block(block.shape[0], 2 * count)
    m = 0
    for r in range(9):
        for j in range(lo[r], hi[r]):
            block[at, m], block[at + 1, m], block[at + 2, m] = values[j, 0], values[j, 1], values[j, 2]
            m += 1
    for k in range(m, m + WIDTH):
        block[at, k], block[at + 1, k], block[at + 2, k] = FAR, 0, 0
    return block, count


@njit(cache=True, nogil=True, error_model="numpy")
def squares(block, count, x, y, z):
    """Fill the last row with the squared distances of the first `count` points from a place."""
    at, room = block.ctypes.data, block.shape[1]
    last = (block.shape[0] - 1) * room
    for s in range(0, count, WIDTH):
        a, b, c = load(at, s) - x, load(at, room + s) - y, load(at, 2 * room + s) - z
        store(at, last + s, a * a + b * b + c * c)


@njit(cache=True, nogil=True, error_model="numpy")
def within(block, count, square):
    """How many squared distances of the last row are no more than one."""
    at, row = block.ctypes.data, (block.shape[0] - 1) * block.shape[1]
    one, found = all_of(np.float32(1)), all_of(np.float32(0))
    for s in range(0, count, WIDTH):
        found += only_within(load(at, row + s), square, one)
    return total(found)


@njit(cache=True, nogil=True, error_model="numpy")
def _roots_within(block, count, square):
    """Sum of the distances whose squares, in the last row, are no more than one."""
    at, row = block.ctypes.data, (block.shape[0] - 1) * block.shape[1]
    out = all_of(np.float32(0))
    for s in range(0, count, WIDTH):
        d = load(at, row + s)
        out += only_within(d, square, root_of(d))
    return np.float64(total(out))


@njit(cache=True, nogil=True, error_model="numpy")
def sum_of_nearest(block, count, nearest, guess):
    """Sum of the `nearest` least distances; the last row holds their squares.

    A radius that holds just as many is found by counting, which goes by eights and hardly ever branches; keeping a list
    of the nearest took twice as long for six of fifty, three times for ten of a hundred.

    guess : the square of a radius that about as many lie within
    """
    wanted, below, low, high = np.float32(nearest), np.float32(0), np.float32(0), np.float32(FAR * FAR)
    square = np.float32(guess)
    for _ in range(TRIES):
        found = within(block, count, square)
        if found == wanted:
            return _roots_within(block, count, square)
        if found < wanted:
            low, below = square, found
        else:
            high = square
        if high - low < np.float32(ALIKE) * high:
            break
        # on a surface there are as many more as the square is larger
        square *= wanted / found if found > 0 else np.float32(4)
        if not low < square < high:
            square = np.float32(0.5) * (low + high) if high < FAR * FAR else np.float32(2) * low
    # several are as far away as each other, and not all of them count
    return _roots_within(block, count, low) + (wanted - below) * np.sqrt(np.float64(high))
