"""Textures against photos, and the time, memory and files of what is delivered.

``python bench/texture.py [NAME ...] [--job JOB]`` prints those named, or all:

held    the demo's texture of 2,048 on 100,000 triangles, made without one photo in six: drawn into those, how near they
        are, after one gain a channel; beside it the nearest that colors of triangles can come which never change
seams   the step of color across seams of charts and of photos, against that over the same distance inside
sharp   power of fine detail in the texture, against that of the photo it is from
trace   a highlight and a hand simulated in a fifth of the photos: what is left of them in the texture
speed   100,000 triangles, 48 photos of 1600 x 1200, a page of 4,096: seconds and memory, with normals and occlusion and
        without
large   150 photos of 24 MP, a page of 8,192 (the demo's, enlarged): seconds and memory; not among all
draw    200,000 triangles with a page of 8,192 in the scene, at rest and moving
files   one file of each purpose, read back by two libraries each

The demo's job is that of ``umbrate demo --job JOB``; without --job it is made first, which takes minutes.
"""

import argparse
import resource
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import scipy
import trimesh
from PIL import Image

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

from poses import told  # noqa: E402
from surfaces import demo_job  # noqa: E402
from umbrate.core.imaging.undistort import undistort  # noqa: E402
from umbrate.core.raster.camera import Eye, eye_round  # noqa: E402
from umbrate.core.raster.solid import draw_triangles  # noqa: E402
from umbrate.core.raster.textured import pages_of, paint_textured  # noqa: E402
from umbrate.core.surface.build import vertex_normals  # noqa: E402
from umbrate.core.surface.mesh import half_edges, opposite  # noqa: E402
from umbrate.core.surface.thin import thinned  # noqa: E402
from umbrate.core.texture.bake import owners  # noqa: E402
from umbrate.core.texture.build import Here, Wanted, make_texture  # noqa: E402
from umbrate.core.texture.choose import exposures  # noqa: E402
from umbrate.core.texture.views import seen_in  # noqa: E402
from umbrate.job.contents import SURFACE  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.blocks import stored_block  # noqa: E402
from umbrate.sitting.frames import move_points  # noqa: E402
from umbrate.sitting.masks import decode_mask  # noqa: E402
from umbrate.sitting.photos import photo_picture  # noqa: E402
from umbrate.stages import BY_NAME  # noqa: E402
from umbrate.stages.base import Report, parse_settings  # noqa: E402
from umbrate.stages.texture import making  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402

GB = 1024 / 1e9
EACH = 6  #: one photo in so many is held out
RIM = 3  #: pixels of the mask's rim that are not compared


class Demo:
    """The demo's thinned surface and its photos, in the frame of the block."""

    def __init__(self, job, triangles=100_000):
        with Job.open(demo_job(job), writable=False) as j:
            (row,) = j.joined_rows()
            stage = BY_NAME["texture"]
            inputs = stage.gather(j, row, parse_settings(stage, {}))
            mesh = j.blobs.get_arrays(inputs.surface, SURFACE)
            self.block = stored_block(j.blobs, inputs.block)
        made = thinned(mesh["points"], mesh["faces"], triangles)
        self.points = move_points(np.asarray(made.points, np.float32), inputs.to_block).astype(np.float64)
        self.faces = np.ascontiguousarray(made.faces, np.int32)
        self.photos = making.Photos(inputs, [], None)
        blobs = self.photos.blobs
        masks = [decode_mask(blobs.get_bytes(x.mask), x.photo) for x in self.photos.looks]
        self.cameras = [replace(c, mask=m) for c, m in zip(self.photos.cameras, masks, strict=True)]
        self.pictures = {}

    def picture(self, k):
        """A photo, kept: these are small."""
        if k not in self.pictures:
            self.pictures[k] = photo_picture(self.photos.refs[k])
        return self.pictures[k]

    def texture(self, some, side=2048, picture=None):
        """The Texture from some of the photos."""
        take = picture or self.picture
        photos = Here([self.cameras[k] for k in some], lambda i: take(some[i]))
        return make_texture(self.points, self.faces, photos, Wanted(side=side))

    def straight(self, k, picture=None):
        """A photo (h, w, 3) and its mask as a pinhole would have them, and that lens."""
        lens = self.block.lens(self.block.row_of(self.photos.refs[k].id))
        return undistort(self.picture(k) if picture is None else picture, self.cameras[k].mask, lens, 1)

    def drawn(self, k, lens, made, tint=None):
        """The textured model as that pinhole sees it (h, w, 3), and the triangle (h, w) at each pixel."""
        w, h = lens.width, lens.height
        pose = self.cameras[k].pose.copy()
        # the eye's principal point is the middle of its picture: what the lens has beside it goes into the pose
        pose[0] += (lens.cx - (w - 1) / 2) / lens.f * pose[2]
        pose[1] += (lens.cy - (h - 1) / 2) / lens.f * pose[2]
        eye = Eye(pose, lens.f, np.zeros(3))
        # twice as fine, and then the mean: as a photo's pixel sees
        solid = draw_triangles(self.points.astype(np.float32), self.faces, replace(eye, f=2 * lens.f), 2 * w, 2 * h)
        mesh = {"faces": self.faces, "corner": made.corner, "uv": made.uv, "page": made.page}
        fine = paint_textured(solid, mesh, pages_of(made.pages), (0, 0, 0), tint)[..., 2::-1]
        return np.asarray(Image.fromarray(np.ascontiguousarray(fine)).reduce(2)), solid.buffers.index[::2, ::2]


def _psnr(a, b):
    """Of two sets of colors (n, 3), after one gain a channel."""
    gain = (a * b).sum(0) / np.maximum((a * a).sum(0), 1e-9)
    return 10 * np.log10(255**2 / np.mean((a * gain - b) ** 2))


def _compared(demo, k, made):
    """Colors (n, 3) of the model and of a photo where both show the object."""
    photo, mask, lens = demo.straight(k)
    drawn, index = demo.drawn(k, lens, made)
    inside = scipy.ndimage.binary_erosion(mask & (index >= 0), iterations=RIM)
    return drawn[inside].astype(float), photo[inside].astype(float)


def bench_held(job):
    """Photos that took no part."""
    demo = Demo(job)
    held = list(range(0, len(demo.cameras), EACH))
    rest = [k for k in range(len(demo.cameras)) if k not in held]
    made = demo.texture(rest)
    found = np.array([_psnr(*_compared(demo, k, made)) for k in held])
    # what the best color of each triangle that never changes would reach: the mean over all photos that show it
    normals = vertex_normals(demo.points, demo.faces).astype(float)
    seen = [seen_in(demo.points, normals, demo.faces, c, demo.picture(k)) for k, c in enumerate(demo.cameras)]
    good, color = np.stack([s[0] for s in seen]), np.stack([s[1] for s in seen])
    even = color * exposures(color, good)[:, None]
    weight = (good > 0)[..., None]
    mean = (even * weight).sum(0) / np.maximum(weight.sum(0), 1)
    best = []
    for k in held:
        show = good[k] > 0
        area = good[k][show]
        a, b = mean[show], color[k][show].astype(float)
        gain = (area[:, None] * a * b).sum(0) / (area[:, None] * a * a).sum(0)
        off = ((a * gain - b) ** 2).mean(1)
        best.append(10 * np.log10(255**2 / (area * off).sum() * area.sum()))
    text = f"held: {len(held)} photos, {np.median(found):.1f} dB in the median (>= 30), the least {found.min():.1f}"
    print(
        f"held: the light stands still while the object turns: colors of triangles that never change reach "
        f"{np.median(best):.1f} dB, the least {np.min(best):.1f}, without any detail"
    )
    return told(f"{text} (>= 27)", np.median(found) >= 30 and found.min() >= 27)


def bench_seams(job):
    """Steps of color across seams, and over the same distance beside them."""
    demo = Demo(job)
    made = demo.texture(range(len(demo.cameras)), side=4096)
    page, side = made.pages[0].astype(float), made.pages[0].shape[0]
    beside = opposite(demo.faces, len(demo.points))
    half = np.flatnonzero((np.arange(len(beside)) < beside) & (beside >= 0))
    t, u = half // 3, beside[half] // 3
    part = scipy.sparse.csgraph.connected_components(_inside_charts(made, demo.faces, half, beside), directed=False)[1]
    start, end = (x[half] for x in half_edges(demo.faces))
    chart, photo = part[t] != part[u], made.photo[t] != made.photo[u]
    known = (made.photo[t] >= 0) & (made.photo[u] >= 0)
    X = demo.points
    middle = (X[start] + X[end]) / 2

    def color(tri, place):
        """The texture's color at places of triangles."""
        share = trimesh.triangles.points_to_barycentric(X[demo.faces[tri]], place)
        uv = (share[:, :, None] * made.uv[made.corner[tri]]).sum(1)
        at = np.stack([(1 - uv[:, 1]) * side - 0.5, uv[:, 0] * side - 0.5])
        return np.stack([scipy.ndimage.map_coordinates(page[..., c], at, order=1, mode="nearest") for c in range(3)], 1)

    # a place on either side, two texels from the edge
    step = 2.0 / made.scale
    off = {}
    for name, tri in (("t", t), ("u", u)):
        toward = X[demo.faces[tri]].mean(1) - middle
        along = X[end] - X[start]
        along /= np.linalg.norm(along, axis=1, keepdims=True)
        toward -= (toward * along).sum(1, keepdims=True) * along
        toward /= np.linalg.norm(toward, axis=1, keepdims=True)
        off[name] = color(tri, middle + step * toward)
    jump = np.linalg.norm(off["t"] - off["u"], axis=1)
    inside = known & ~chart & ~photo
    charts, photos = float(jump[known & chart].mean()), float(jump[known & photo].mean())
    base = float(jump[inside].mean())
    good = told(f"seams: across charts {charts / base:.2f} times the step inside (<= 1.15)", charts / base <= 1.15)
    print(f"seams: across photos {photos / base:.2f} times; inside {base:.2f} levels over 4 texels")
    return good


def _inside_charts(made, faces, half, beside):
    """Which triangles share a side on the page too, as a sparse matrix."""
    t, u = half // 3, beside[half] // 3
    a, b = made.corner[t, half % 3], made.corner[t, (half % 3 + 1) % 3]
    c, d = made.corner[u, beside[half] % 3], made.corner[u, (beside[half] % 3 + 1) % 3]
    same = (a == d) & (b == c)
    return scipy.sparse.coo_matrix((np.ones(same.sum()), (t[same], u[same])), (len(faces), len(faces)))


def bench_sharp(job):
    """Fine detail that is kept."""
    demo = Demo(job)
    made = demo.texture(range(len(demo.cameras)), side=4096)
    share = []
    for k in range(0, len(demo.cameras), 4):
        photo, mask, lens = demo.straight(k)
        drawn, index = demo.drawn(k, lens, made)
        own = mask & (index >= 0) & (made.photo[np.maximum(index, 0)] == k)
        own = scipy.ndimage.binary_erosion(own, iterations=6)
        if own.sum() < 3000:
            continue
        fine = []
        for picture in (drawn.astype(float), photo.astype(float)):
            gray = picture.mean(2)
            fine.append((gray - scipy.ndimage.gaussian_filter(gray, 1.5))[own])
        share.append(fine[0].var() / fine[1].var())
    text = f"sharp: {100 * np.median(share):.0f} % of the power of detail in the median of {len(share)} photos"
    return told(f"{text} (>= 80)", np.median(share) >= 0.8)


def bench_trace(job):
    """A highlight and a hand."""
    demo = Demo(job)
    every = range(len(demo.cameras))
    clean = demo.texture(every)
    rng = np.random.default_rng(3)
    spoiled = set(rng.choice(len(demo.cameras), len(demo.cameras) // 5, replace=False).tolist())
    spots = {}

    def spoil(k):
        photo = demo.picture(k)
        if k not in spoiled:
            return photo
        if k not in spots:
            ys, xs = np.nonzero(demo.cameras[k].mask)
            spots[k] = [(xs[i], ys[i]) for i in rng.integers(0, len(xs), 3)]
        out = photo.astype(float)
        y, x = np.mgrid[: out.shape[0], : out.shape[1]]
        (hx, hy), (ax, ay), (bx, by) = spots[k]
        out += 170 * np.exp(-((x - hx) ** 2 + (y - hy) ** 2) / (2 * 28.0**2))[..., None]  # a highlight
        # two fingers
        for fx, fy in ((ax, ay), (bx, by)):
            finger = np.abs((x - fx) * 0.8 + (y - fy) * 0.6) < 34
            finger &= ((x - fx) * -0.6 + (y - fy) * 0.8 > -40) & ((x - fx) * -0.6 + (y - fy) * 0.8 < 160)
            out[finger] = (226, 172, 150)
        return out.clip(0, 255).astype(np.uint8)

    made = demo.texture(every, picture=spoil)
    # places of both are the same, as the surface is: what of the texture is another color
    off = np.abs(made.pages[0].astype(int) - clean.pages[0]).max(2)
    covered = owners(
        np.ascontiguousarray(np.stack([made.uv[..., 0], 1 - made.uv[..., 1]], 1)[made.corner] * 2048),
        np.arange(len(demo.faces)), 2048,
    ) >= 0  # fmt: skip
    share = float((off[covered] > 40).mean())
    touched = np.mean(
        [np.abs(spoil(k).astype(int) - demo.picture(k)).max(2)[demo.cameras[k].mask].mean() > 0 for k in spoiled]
    )
    text = f"trace: {100 * share:.2f} % of texels off by more than 40 levels (<= 2), {len(spoiled)} photos spoiled"
    return told(text, share <= 0.02 and touched == 1)


def _alone(code, *arguments):
    """Run a part of this file in a process of its own: (what it printed, seconds, GB)."""
    done = subprocess.run(
        [sys.executable, __file__, code, *map(str, arguments)], capture_output=True, text=True, check=True
    )  # fmt: skip
    seconds, memory = done.stdout.split()[-2:]
    return float(seconds), float(memory)


def _timed(job, values):
    """Seconds and GB of a run of the stage."""
    with Job.open(job, writable=False) as j:
        (row,) = j.joined_rows()
        stage = BY_NAME["texture"]
        settings = parse_settings(stage, values)
        inputs = stage.gather(j, row, settings)
        start = time.perf_counter()
        making.run(inputs, settings, Report())
    print(time.perf_counter() - start, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * GB)


def bench_speed(job):
    """A usual texture."""
    job, good = demo_job(job), True
    for name, values, limit in (("without maps", "plain", 60), ("with normals and occlusion", "maps", 60)):
        seconds, memory = _alone("_timed", job, values)
        text = f"speed: 100,000 triangles, 48 photos, 4,096, {name}: {seconds:.0f} s"
        if values == "plain":
            good &= told(f"{text} (<= {limit}), {memory:.2f} GB (<= 2)", seconds <= limit and memory <= 2)
        else:
            print(f"{text}, {memory:.2f} GB")
    return good


def _large(job, count=150, factor=3.75):
    """The demo's photos, enlarged to 24 MP, until there are so many: seconds and GB."""
    demo = Demo(Path(job))
    w, h = (int(factor * n) for n in demo.cameras[0].size)
    of, cameras = [k % len(demo.cameras) for k in range(count)], []
    for k in range(count):
        c = demo.cameras[of[k]]
        lens = c.lens.copy()
        lens[:3] = factor * lens[0], factor * (lens[1] + 0.5) - 0.5, factor * (lens[2] + 0.5) - 0.5
        cameras.append(replace(c, lens=lens, size=(w, h), mask=None))

    class Sized(list):
        """Cameras whose masks are made when they are looked at, as the stage reads them."""

        def __getitem__(self, k):
            mask = Image.fromarray(demo.cameras[of[k]].mask).resize((w, h), Image.Resampling.NEAREST)
            return replace(list.__getitem__(self, k), mask=np.asarray(mask))

        def __iter__(self):
            return (self[k] for k in range(len(self)))

    last = [None, None]

    def picture(k):
        if last[0] != k:
            last[:] = k, None
            last[1] = np.asarray(Image.fromarray(demo.picture(of[k])).resize((w, h), Image.Resampling.BICUBIC))
        return last[1]

    start = time.perf_counter()
    make_texture(demo.points, demo.faces, Here(Sized(cameras), picture), Wanted(side=8192))
    print(time.perf_counter() - start, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * GB)


def bench_large(job):
    """Many large photos."""
    seconds, memory = _alone("_large", demo_job(job))
    text = f"large: 150 photos of 24 MP, 8,192: {seconds / 60:.1f} minutes (<= 12), {memory:.2f} GB (<= 3)"
    return told(text, seconds <= 720 and memory <= 3)


def bench_draw(_):
    """The scene."""
    ball = trimesh.creation.icosphere(7, 40.0)  # 327,680 triangles
    few = thinned(np.array(ball.vertices), np.array(ball.faces, np.int32), 200_000)
    points, faces = np.asarray(few.points, np.float32), np.ascontiguousarray(few.faces, np.int32)
    uv = np.stack([0.5 + 0.49 * points[:, 0] / 40, 0.5 + 0.49 * points[:, 1] / 40], 1)
    mesh = {"faces": faces, "corner": faces, "uv": uv, "page": np.zeros(len(faces), np.int32)}
    rng = np.random.default_rng(0)
    pages = pages_of([rng.integers(0, 255, (8192, 8192, 3), np.uint8)])
    good = True
    # what moves is drawn with so few pixels as the machine manages in a frame (see `Canvas.shrink`)
    for name, quick, shrink, limit in (
        ("at rest", False, 1.0, 250), ("moving, all pixels", True, 1.0, None),
        ("moving, half of the pixels along a side", True, 2.0, 1000 / 30),
    ):  # fmt: skip
        w, h = round(1280 / shrink), round(800 / shrink)
        eye = eye_round(np.zeros(3), 40.0, (1, -1, 0.6), w, h)
        times = []
        for _ in range(12):
            start = time.perf_counter()
            solid = draw_triangles(points, faces, eye, w, h, True)
            paint_textured(solid, mesh, pages, (0, 0, 0), outer=True, quick=quick)
            times.append(1e3 * (time.perf_counter() - start))
        took = float(np.median(times[2:]))
        text = f"draw: {len(faces):,} triangles, 8,192, {name}: {took:.0f} ms"
        if limit is None:
            print(text)
        else:
            good &= told(f"{text} (<= {limit:.0f})", took <= limit)
    return good


# ---------------------------------------------------------------------- files
def _second(path):
    """Triangles or points, and extent, of a file by another library than those that the stage reads back with.

    They are not among the program's own: ``pip install meshio PyWavefront lib3mf pygltflib``.
    """
    kind = path.suffix
    if kind == ".3mf":
        import lib3mf

        model = lib3mf.get_wrapper().CreateModel()
        model.QueryReader("3mf").ReadFromFile(str(path))
        meshes = model.GetMeshObjects()
        meshes.MoveNext()
        m = meshes.GetCurrentMeshObject()
        points = np.array([list(v.Coordinates) for v in m.GetVertices()])
        return (
            m.GetTriangleCount(),
            np.ptp(points, axis=0),
            str(model.GetUnit()),
        )
    if kind == ".glb":
        import pygltflib

        g = pygltflib.GLTF2().load_binary(str(path))
        p = g.meshes[0].primitives[0]
        place = g.accessors[p.attributes.POSITION]
        return g.accessors[p.indices].count // 3, np.array(place.max) - place.min, "m"
    if kind == ".obj":
        import pywavefront

        read = pywavefront.Wavefront(str(path), collect_faces=True)
        faces = sum(len(m.faces) for m in read.mesh_list)
        return faces, np.ptp(np.array(read.vertices)[:, :3], axis=0), ", ".join(read.materials)
    import meshio

    m = meshio.read(path)
    faces = sum(len(c.data) for c in m.cells if c.type == "triangle")
    return faces or len(m.points), np.ptp(m.points, axis=0), ""


def bench_files(job):
    """Each format, by two libraries."""
    import shutil

    good = True
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "demo.umbrate"
        shutil.copytree(demo_job(job), copy)
        with Job.open(copy) as j:
            (row,) = j.joined_rows()
            if j.result(row.id, "texture") is None:
                run_now(j, row, "texture")
            for purpose, values in (
                ("print", {"print_format": "stl", "triangles": 100_000}), ("print", {"triangles": 100_000}),
                ("web", {}),
                ("exchange", {}), ("exchange", {"exchange_format": "ply"}), ("page", {}), ("cloud", {"spacing": 0.5}),
                ("pictures", {"film_seconds": 1.0, "width": 640}), ("archive", {}),
            ):  # fmt: skip
                j.set_settings(row.id, "deliver", {"purpose": purpose, "folder": folder, "file": "whistle", **values})
                start = time.perf_counter()
                run_now(j, row, "deliver")
                seconds = time.perf_counter() - start
                made = j.result(row.id, "deliver").figures.made[-1]
                size = sum(n for _, n, _ in made.files) / 1e6
                good &= told(
                    f"files: {purpose} {made.files[0][0]}, {size:.1f} MB in {seconds:.0f} s: {made.checks[-1].text}",
                    made.good,
                )
                main = Path(folder) / next(
                    f for f, _, _ in made.files if Path(f).suffix not in (".mtl", ".jpg", ".png")
                )
                if purpose in ("print", "web", "exchange"):
                    try:
                        count, extent, unit = _second(main)
                    except ImportError as e:
                        print(f"files: {main.name}: {e.name} is not installed, one library alone read it")
                        continue
                    wanted = int(made.checks[-1].text.split(": ")[1].split()[0].replace(",", ""))
                    told_extent = [float(x) for x in made.checks[-1].text.split(", ")[1].split(" m")[0].split(" x ")]
                    same = count == wanted and np.allclose(np.sort(extent), np.sort(told_extent), rtol=2e-3)
                    good &= told(
                        f"files: {main.name} by a second library: {count:,}, {np.round(extent, 5)} {unit}", same
                    )
    return good


ALL = {
    "held": bench_held, "seams": bench_seams, "sharp": bench_sharp, "trace": bench_trace, "speed": bench_speed,
    "large": bench_large, "draw": bench_draw, "files": bench_files,
}  # fmt: skip


def main():
    """Measure what is named; the exit code is 0 where every figure is within its limit."""
    if len(sys.argv) > 1 and sys.argv[1] == "_timed":
        _timed(Path(sys.argv[2]), {} if sys.argv[3] == "maps" else {"normal_map": False, "occlusion_map": False})
        return 0
    if len(sys.argv) > 1 and sys.argv[1] == "_large":
        _large(Path(sys.argv[2]))
        return 0
    parser = argparse.ArgumentParser(description="Textures against photos; what is delivered.")
    parser.add_argument("names", nargs="*", choices=[[], *ALL])
    parser.add_argument("--job", type=Path, help="a job that umbrate demo made")
    args = parser.parse_args()
    names = args.names or [n for n in ALL if n != "large"]
    return 0 if all([ALL[n](args.job) for n in names]) else 1


if __name__ == "__main__":
    sys.exit(main())
