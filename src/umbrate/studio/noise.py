"""Solid noise: the grain of clay, paint, felt and foam.

A texture defined in space needs no unwrapping and has detail wherever the camera looks. Value
noise on an integer lattice with a hash in place of a table (Perlin 1985 for the idea of fractal
sums; the hash is a 32-bit finalizer).
"""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True, inline="always")
def _hash(ix, iy, iz, seed):
    h = (
        (ix * np.int64(73856093))
        ^ (iy * np.int64(19349663))
        ^ (iz * np.int64(83492791))
        ^ (seed * np.int64(2654435761))
    )
    h &= np.int64(0xFFFFFFFF)
    h = ((h ^ (h >> 16)) * np.int64(0x45D9F3B)) & np.int64(0xFFFFFFFF)
    h = ((h ^ (h >> 16)) * np.int64(0x45D9F3B)) & np.int64(0xFFFFFFFF)
    h ^= h >> 16
    return h * (1.0 / 4294967295.0)


@njit(cache=True, nogil=True)
def value_noise(x, y, z, seed):
    """Smooth noise in [-1, 1] with features one unit wide."""
    fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
    ix, iy, iz = np.int64(fx), np.int64(fy), np.int64(fz)
    u, v, w = x - fx, y - fy, z - fz
    u = u * u * u * (u * (u * 6 - 15) + 10)
    v = v * v * v * (v * (v * 6 - 15) + 10)
    w = w * w * w * (w * (w * 6 - 15) + 10)
    a = _hash(ix, iy, iz, seed) * (1 - u) + _hash(ix + 1, iy, iz, seed) * u
    b = _hash(ix, iy + 1, iz, seed) * (1 - u) + _hash(ix + 1, iy + 1, iz, seed) * u
    c = _hash(ix, iy, iz + 1, seed) * (1 - u) + _hash(ix + 1, iy, iz + 1, seed) * u
    d = _hash(ix, iy + 1, iz + 1, seed) * (1 - u) + _hash(ix + 1, iy + 1, iz + 1, seed) * u
    return 2.0 * ((a * (1 - v) + b * v) * (1 - w) + (c * (1 - v) + d * v) * w) - 1.0


@njit(cache=True, nogil=True)
def fractal(x, y, z, octaves, seed):
    """Sum of `octaves` noises, each half as large and half as strong, about [-1, 1]."""
    total, amplitude, norm = 0.0, 1.0, 0.0
    for k in range(octaves):
        total += amplitude * value_noise(x, y, z, seed + k)
        norm += amplitude
        amplitude *= 0.6
        x, y, z = x * 2.03 + 17.1, y * 2.03 + 5.7, z * 2.03 + 11.9
    return total / norm


@njit(cache=True, nogil=True)
def specks(x, y, z, seed):
    """Distance to the nearest of one random grain a unit cell, and a random number for it."""
    fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
    ix, iy, iz = np.int64(fx), np.int64(fy), np.int64(fz)
    best, tag = 9.0, 0.0
    for dx in range(-1, 2):
        for dy in range(-1, 2):
            for dz in range(-1, 2):
                jx, jy, jz = ix + dx, iy + dy, iz + dz
                px = jx + _hash(jx, jy, jz, seed) - x
                py = jy + _hash(jx, jy, jz, seed + 1) - y
                pz = jz + _hash(jx, jy, jz, seed + 2) - z
                d = px * px + py * py + pz * pz
                if d < best:
                    best = d
                    tag = _hash(jx, jy, jz, seed + 3)
    return np.sqrt(best), tag
