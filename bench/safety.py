"""What is promised of files and numbers, in figures: coordinates far from zero, sections, memory, readers.

``python bench/safety.py``
"""

import sys
import tempfile
import time
import tracemalloc
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]

import laspy  # noqa: E402
import numpy as np  # noqa: E402
from PIL import Image  # noqa: E402
from plyfile import PlyData  # noqa: E402

from umbrate.core.imaging.decode import read_picture  # noqa: E402
from umbrate.core.measure.section import section  # noqa: E402
from umbrate.formats.clouds import write_cloud  # noqa: E402
from umbrate.formats.coordinates import read_coordinates, write_coordinates  # noqa: E402

FAR = np.array([6_378_137.25, -9_999_999.5, 250_000.125])  #: mm, some 10 km from zero


def ball(n, radius=50.0, noise=0.02, seed=0):
    """A cloud of n points on a ball, and its normals."""
    d = np.random.default_rng(seed).normal(size=(n, 3))
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    r = radius + noise * np.random.default_rng(seed + 1).normal(size=(n, 1))
    return (r * d).astype(np.float32), d.astype(np.float32)


def far_coordinates(folder):
    """Largest error of a coordinate some 10 km from zero, in mm, by format (at most 0.01)."""
    points, normals = ball(20_000)
    true = points.astype(float) + FAR
    out = {}
    for name, shift in (("c.ply", False), ("shift.ply", True), ("text.ply", False), ("c.xyz", False), ("c.csv", False),
                        ("c.las", False), ("c.laz", False)):  # fmt: skip
        path = folder / name
        cloud = {"points": points, "normals": normals}
        write_cloud(path, cloud, "mm", offset=FAR, shift=shift, text=name == "text.ply")
        if path.suffix == ".ply":
            data = PlyData.read(str(path))
            got = np.stack([np.asarray(data["vertex"][a], float) for a in "xyz"], 1)
            told = [c for c in data.comments if c.startswith("offset")]
            got = got + (np.array(told[0].split()[1:], float) if told else 0.0)
        elif path.suffix in (".las", ".laz"):
            got = laspy.read(path).xyz * 1000
        else:
            rows = np.genfromtxt(path, delimiter="," if path.suffix == ".csv" else None, skip_header=name == "c.csv")
            got = rows[:, :3]
        out[name] = float(np.abs(got - true).max())
    write_coordinates(folder / "p.csv", [(f"P{k}", x, (0.1,) * 3) for k, x in enumerate(true[:500])])
    back = np.array([p.xyz for p in read_coordinates(folder / "p.csv")])
    out["p.csv"] = float(np.abs(back - true[:500]).max())
    return out


def sections(count):
    """Seconds a cut of a cloud takes, the first and then as a slider asks for it, and the area's error in percent."""
    points, normals = ball(count)
    section(points, normals, [0, 0, 0], [0, 0, 1])  # warm
    clock = time.perf_counter()
    first = section(points, normals, [0, 0, 1], [0, 0, 1])
    one = time.perf_counter() - clock
    took = []
    for h in np.linspace(-30, 30, 15):
        clock = time.perf_counter()
        section(points, normals, [0, 0, h], [0.1, 0.2, 1], spacing=first.spacing, quick=True)
        took.append(time.perf_counter() - clock)
    true = np.pi * (50.0**2 - 1)
    return one, float(np.median(took)), float(100 * abs(first.area - true) / true)


def memory(folder):
    """Bytes of memory a pixel that reading takes at its peak, of 16-bit gray and of 8-bit color."""
    out = {}
    rng = np.random.default_rng(0)
    for name, picture in (
        ("16-bit gray", Image.fromarray(rng.integers(0, 65535, (3000, 4000), np.uint16))),
        ("8-bit color", Image.fromarray(rng.integers(0, 255, (3000, 4000, 3), np.uint8))),
    ):
        path = folder / f"{name}.png"
        picture.save(path, compress_level=1)
        tracemalloc.start()
        read_picture(path)
        out[name] = tracemalloc.get_traced_memory()[1] / 12e6
        tracemalloc.stop()
    return out


def main():
    """Print all figures."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        for name, error in far_coordinates(folder).items():
            print(f"10 km from zero, {name:10s} {error:.6f} mm off at most  (limit 0.01)")
        for count in (100_000, 1_000_000):
            first, usual, off = sections(count)
            print(f"section of {count:9,} points: {first:.3f} s, {usual:.3f} s while it moves; area {off:.3f} % off")
        for name, used in memory(folder).items():
            print(f"reading {name}: {used:.1f} bytes a pixel (before, 16-bit gray: 26)")


if __name__ == "__main__":
    main()
