"""Warming up: every kernel compiled once, by running a tiny job through all stages."""

import tempfile
import time
from pathlib import Path


def warm_up(tell):
    """Run the small simulated scene through all stages in this process; kernels stay compiled on disk.

    tell : callable(sentence, time so far)
    """
    from ..core.poses.sift import measure
    from ..job.store import Job
    from ..sitting.frames import load_block
    from ..sitting.photos import find_photos
    from ..stages import stages_of
    from ..stages.photos.records import read_records
    from ..studio.scene import pebble
    from ..studio.shoot import shoot
    from .now import run_now

    start = time.monotonic()

    def say(text):
        tell(f"  {text}", f"  {time.monotonic() - start:.0f} s")

    say("compiling the simulated studio")
    with tempfile.TemporaryDirectory() as folder:
        shoot(pebble(), Path(folder) / "photos")
        with Job.create(Path(folder) / "warm") as job:
            records, _ = read_records(find_photos(Path(folder) / "photos" / "by-hand"))
            sitting, _ = job.add_sitting("warm", records)
            job.set_settings(sitting.id, "masks", {"folder": str(Path(folder) / "photos" / "by-hand" / "masks")})
            for stage in stages_of(sitting):
                say(f"compiling {stage.title}")
                if not stage.only_asked:
                    run_now(job, sitting, stage.name)
            measure("angle", load_block(job, sitting))
    say("compiling the scene and the mask tools")
    warm_drawing()
    warm_desk()
    warm_mending()
    warm_delivering()
    say("all kernels are compiled")


def warm_drawing():
    """Draw a few points, and many: what the scene does first."""
    import numpy as np

    from ..core.raster.camera import eye_round
    from ..core.raster.coloring import counts_of
    from ..core.raster.points import draw_points, paint
    from ..core.raster.ramps import ramp_colors
    from ..core.raster.solid import draw_triangles, paint_quickly, paint_triangles
    from ..core.raster.textured import pages_of, paint_textured

    points = np.random.default_rng(0).random((100_000, 3)).astype(np.float32)
    colors = ramp_colors(points[:, 0], 0.0, 1.0)
    eye = eye_round(np.full(3, 0.5), 1.0, (1, 1, 1), 64, 64)
    for some in (points[:100], points):
        paint(draw_points(some, eye, 64, 64, 2), colors, (0, 0, 0), 30.0)
    for kind in (np.float32, np.uint8):  # of measured properties, and of photos and angles
        counts_of(points[:100, 0].astype(kind), 0.0, 1.0, 4)

    ring = _ring()
    gray = np.full((len(ring["points"]), 3), 200, np.uint8)
    for outer in (True, False):
        drawn = draw_triangles(ring["points"], ring["faces"], eye, 64, 64, outer)
    paint_triangles(drawn, ring, gray, eye, (0, 0, 0), (0, 0, 0))
    paint_quickly(drawn, ring, gray, eye, (0, 0, 0))
    few = ring["faces"]
    laid = {"faces": few, "corner": few, "uv": ring["points"][:, :2], "page": np.zeros(len(few), np.int32)}
    paint_textured(drawn, laid, pages_of([np.zeros((8, 8, 3), np.uint8)]), (0, 0, 0))


def _ring(across=12, along=24):
    """A small surface with a handle: points (n, 3) float32, normals (n, 3), faces (t, 3) int32."""
    import numpy as np

    a, b = (x.ravel() for x in np.meshgrid(np.arange(along), np.arange(across), indexing="ij"))
    u, v = 2 * np.pi * a / along, 2 * np.pi * b / across
    normals = np.stack([np.cos(v) * np.cos(u), np.cos(v) * np.sin(u), np.sin(v)], 1)
    points = 0.3 * normals + np.stack([np.cos(u), np.sin(u), 0 * u], 1)
    right, up = (a + 1) % along * across + b, a * across + (b + 1) % across
    both = (a + 1) % along * across + (b + 1) % across
    here = a * across + b
    faces = np.concatenate([np.stack([here, right, both], 1), np.stack([here, both, up], 1)])
    return {k: x.astype(t) for k, x, t in (
        ("points", points, np.float32), ("normals", normals, np.float32), ("faces", faces, np.int32),
    )}  # fmt: skip


def warm_mending():
    """Mend and measure a small surface in all ways."""
    import numpy as np

    from ..core.measure.solid import surface_section, thickness
    from ..core.surface.carried import carried
    from ..core.surface.crossing import uncrossed
    from ..core.surface.evening import evened
    from ..core.surface.holes import filled, holes_of
    from ..core.surface.mesh import pieces
    from ..core.surface.planes import closed_flat, cut_open
    from ..core.surface.remesh import remeshed
    from ..core.surface.spikes import without_spikes
    from ..core.surface.thin import thinned

    ring = _ring()
    n = len(ring["points"])
    mesh = {
        **ring, "colors": np.zeros((n, 3), np.uint8), "support": np.zeros(n, np.float32),
        "deviation": np.zeros(n, np.float32), "photos": np.zeros(n, np.uint8), "filled": np.zeros(n, bool),
    }  # fmt: skip
    points, faces = mesh["points"], mesh["faces"]
    part = cut_open(mesh, points @ np.array([0.0, 0, 1]))
    closed = closed_flat(part["points"], part["faces"], (0, 0, 1), 0.0, 0.01)
    carried(part, *closed)
    for hole in holes_of(part["points"], part["faces"])[:1]:
        uncrossed(*filled(part["points"], part["faces"], hole, smooth=True)[:2])
    for some in (
        remeshed(points, faces, 0.2),
        thinned(points, faces, 100)[:2],
        without_spikes(points, faces, 0.8, 3)[:2],
    ):
        carried(mesh, *some)
    evened(points, faces, 1)
    pieces(faces, n)
    thickness(points, faces, mesh["normals"])
    surface_section(points, faces, (0, 0, 0.01), (0, 0, 1))


def warm_delivering():
    """Thin a textured surface, keep its detail, and make one hollow."""
    import numpy as np

    from ..core.surface.shell import hollowed
    from ..core.texture.detail import detail_pages
    from ..core.texture.transfer import carried_over, laid_down

    ring = _ring()
    arrays = laid_down(ring["points"], ring["faces"], 128, 2)
    page = carried_over(arrays, 64, arrays, [np.zeros((128, 128, 3), np.uint8)], 0.5)
    detail_pages(arrays, (ring["points"], ring["faces"], ring["normals"]), len(page), 0.5)
    hollowed(ring["points"].astype(float), ring["faces"], 0.08)


def warm_desk():
    """Run what the window calls by itself (drawing points, strokes on masks, a pixel's ray) and reading targets."""
    import numpy as np

    from ..core.cloud import filters
    from ..core.cloud.clean import inside_outlines, isolated
    from ..core.cloud.coverage import Camera
    from ..core.geometry.lens import Lens, project_one, unproject_one
    from ..core.masking import strokes
    from ..core.masking.light import unlikeness
    from ..core.poses.degenerate import plane_inliers
    from ..core.raster.pick import inside_polygon, seen_inside, seen_under
    from ..core.surface.distance import signed_distance
    from ..core.surface.handles import without_handles
    from ..core.targets.detect import find_targets
    from ..core.targets.sheets import calibration, picture

    ring = _ring()
    without_handles(ring["points"].astype(float), ring["faces"], 3.0)
    signed_distance(ring["points"], ring["points"], ring["faces"], 1.0)
    points = np.random.default_rng(0).random((200_000, 3)).astype(np.float32)
    find_targets(255 * picture(calibration(), 2.0))
    normals = np.tile(np.float32([0, 0, 1]), (len(points), 1))
    filters.lonely(points, 0.05, 3)
    filters.spacing(points)
    filters.doubled(points, normals, normals[:, 2], 0.01, 0.005)
    isolated(np.concatenate([points, points[:3] + 9]))
    filters.rim(points, normals, 0.03)
    filters.components(points, 0.02)
    filters.thin_by_spacing(points, 0.05)
    filters.smooth(points, normals, 0.03, 0.01)
    filters.distance_to(points[:1000], points, 0.02, normals)
    filters.distance_to(points[:1000], points, 0.02)
    seen_inside(points, np.eye(4), 10.0, (5, 5), np.array([(0.0, 0), (9, 0), (5, 9)]))
    lens = Lens.guess(50, 40, 60.0)
    inside_outlines(points, normals, [Camera(np.eye(4), lens, np.ones((40, 50), bool))], 2)
    seen_under(points, np.eye(4), 10.0, (5, 5), [[(0.0, 0), (9, 0)]], 3, (0, 0, 1, 0), 0.01)
    picture_of_nothing = np.zeros((40, 50, 3), np.uint8)
    path = [(5.0, 5.0), (20.0, 9.0), (12.0, 30.0)]
    strokes.polygon((40, 50), path)
    strokes.similar(picture_of_nothing, path[0], 10)
    strokes.similar(picture_of_nothing, path[0], 10, connected=False)
    strokes.edge_brush(picture_of_nothing, path, 6, 10)
    light = np.zeros((40, 50, 3), np.float32)
    unlikeness(light, light)
    inside_polygon(np.array(path), np.array(path))
    plane_inliers(np.array(path), np.array(path), 0.1, 1, 0)
    project_one(*unproject_one(3.0, 4.0, lens.vector), lens.vector)
