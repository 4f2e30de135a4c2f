"""A made-up rectified pair of photos with its disparity: balls and cards before a slanted wall, some faint."""

import numpy as np
from numba import njit, prange

from umbrate.studio.noise import fractal

WALL = (0.25, 0.4, 14.0)  #: the wall is where Z - a X - b Y = c, in baselines
NOISE = 2.0  #: gray levels, standard deviation
DIMMER = 0.9  #: the right photo's brightness by the left's
SUPER = 2  #: samples of a pixel, squared


@njit(nogil=True)
def first_hit(dx, dy, shift, balls, cards):
    """Depth where the ray through (dx, dy, 1) from (shift, 0, 0) ends; its texture's contrast, seed, size."""
    a, b, c = WALL
    best, contrast, seed, size = (c + a * shift) / (1 - a * dx - b * dy), 70.0, 1, 0.06
    for k in range(balls.shape[0]):
        x, y, z, r = balls[k, 0] - shift, balls[k, 1], balls[k, 2], balls[k, 3]
        aa, bb = dx * dx + dy * dy + 1, dx * x + dy * y + z
        q = bb * bb - aa * (x * x + y * y + z * z - r * r)
        if q > 0 and (bb - np.sqrt(q)) / aa < best:
            best, contrast, seed, size = (bb - np.sqrt(q)) / aa, balls[k, 4], 10 + k, balls[k, 5]
    for k in range(cards.shape[0]):
        x, y, z, nx, ny = cards[k, 0] - shift, cards[k, 1], cards[k, 2], cards[k, 3], cards[k, 4]
        s = (nx * x + ny * y + z) / (nx * dx + ny * dy + 1)
        if 0 < s < best and abs(s * dx - x) < cards[k, 5] and abs(s * dy - y) < cards[k, 6]:
            best, contrast, seed, size = s, cards[k, 7], 30 + k, cards[k, 8]
    return best, contrast, seed, size


@njit(nogil=True, parallel=True)
def photograph(shift, balls, cards, gray, depth):
    """Fill a photo and its depth (h, w), its focal length being its width."""
    h, w = gray.shape
    for v in prange(h):
        for u in range(w):
            total = 0.0
            for k in range(SUPER * SUPER):
                dx = (u + (k % SUPER + 0.5) / SUPER - w / 2) / w
                dy = (v + (k // SUPER + 0.5) / SUPER - h / 2) / w
                z, contrast, seed, size = first_hit(dx, dy, shift, balls, cards)
                total += 110 + contrast * fractal((z * dx + shift) / size, z * dy / size, z / size, 4, seed)
            gray[v, u] = total / SUPER**2
            depth[v, u] = first_hit((u - (w - 1) / 2) / w, (v - (h - 1) / 2) / w, shift, balls, cards)[0]


def made_pair(width=1400, height=1000, seed=5):
    """Left and right (h, w, 3) uint8, the left's disparity in pixels (h, w), and which of its pixels the right sees."""
    rng = np.random.default_rng(seed)
    balls, cards = np.zeros((7, 6)), np.zeros((7, 9))
    for things, far in ((balls, 12.0), (cards, 13.0)):
        things[:, 2] = rng.uniform(6, far, 7)
        things[:, 0] = rng.uniform(-0.45, 0.45, 7) * things[:, 2]
        things[:, 1] = rng.uniform(-0.33, 0.33, 7) * things[:, 2]
    balls[:, 3], balls[:, 4], balls[:, 5] = (
        rng.uniform(0.5, 1.3, 7),
        rng.choice([8, 25, 60], 7),
        rng.choice([0.04, 0.1], 7),
    )
    cards[:, 3:5], cards[:, 5:7] = rng.uniform(-0.8, 0.8, (7, 2)), rng.uniform(0.3, 1.5, (7, 2))
    cards[:, 7], cards[:, 8] = rng.choice([8, 25, 60], 7), rng.choice([0.03, 0.08, 0.15], 7)
    photos, disparities = [], []
    for shift, brightness in ((0.0, 1.0), (1.0, DIMMER)):
        gray, depth = np.empty((height, width)), np.empty((height, width))
        photograph(shift, balls, cards, gray, depth)
        noisy = gray * brightness + rng.normal(0, NOISE, gray.shape)
        photos.append(np.repeat(np.clip(noisy, 0, 255).round().astype(np.uint8)[..., None], 3, 2))
        disparities.append(width / depth)
    left, right = disparities
    there = np.round(np.arange(width) - left).astype(int)
    inside = (there >= 0) & (there < width)
    far = np.take_along_axis(right, np.clip(there, 0, width - 1), 1)
    return *photos, left, inside & (np.abs(far - left) < 1.5)
