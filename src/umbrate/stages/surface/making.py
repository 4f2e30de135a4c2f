"""A run of the Surface stage."""

import time

import numpy as np

from ...core.cloud.grid import spacing_of
from ...core.cloud.keepbox import KeepBox
from ...core.errors import UmbrateError
from ...core.surface.build import Wanted, make_surface
from ...core.surface.mesh import areas, opposite, rims
from ...job.blobs import BlobStore
from ...job.scratch import Scratch
from ...sitting.clouds import CloudSource
from ..base import Outcome, Share, problem
from ..dense.maps import DenseRun
from .figures import SurfaceFigures
from .forecast import SHORTEST, check_memory, work

FUSED = 0.4  #: share of the progress of a run from depth maps until they are fused
MUCH_FILLED = 0.25  #: share of the area: so much that nobody saw is worth a word


def _fused(inputs, settings, report, scratch):
    """The points that depth maps agree on, as arrays by name, and what they saw through, as `make_surface` takes it."""
    dense = DenseRun(inputs, settings, report, scratch)
    dense.maps()
    cloud = dense.points().arrays()
    return cloud, dense.free_space().at


def run(inputs, settings, report, cell_of):
    """Compute; returns the Outcome.

    cell_of : `SurfaceStage.cell_of`
    """
    with Scratch.of_job(inputs.blobs) as scratch:
        return _run(inputs, settings, report, cell_of, scratch)


def _run(inputs, settings, report, cell_of, scratch):
    if isinstance(inputs.source, CloudSource):
        cloud, free = inputs.source.read(), None
    else:
        cloud, free = _fused(*inputs.source, Share(report, 0.0, FUSED), scratch)
        report = Share(report, FUSED, 1.0)
    start = time.monotonic()
    box = KeepBox.from_dict(inputs.keep_box) if inputs.keep_box else None
    if box is not None and len(cloud["points"]) and not box.contains(cloud["points"]).any():
        raise UmbrateError(
            "No point of the cloud lies in the keep box. Fit it again, or move it to the object.",
            ("fit the keep box",),
        )
    spacing = spacing_of(cloud["points"])

    def check(share):
        report.check()
        report.progress(share, "making the surface" if share < 0.75 else "measuring it")

    wanted = Wanted(
        cell=cell_of(settings, len(cloud["points"]), spacing, inputs.length),
        radius=settings.radius,
        closed=settings.mode == "closed",
        reach=settings.reach,
        edges=settings.style == "edges",
        least_share=settings.least_piece / 100,
    )
    check_memory(len(cloud["points"]), wanted.cell, spacing / inputs.length)
    made = make_surface(cloud, wanted, box.distance if box is not None else None, check, free)
    seconds = time.monotonic() - start
    area = areas(made.points, made.faces)
    filled = float((area * made.filled[made.faces].mean(1)).sum() / max(area.sum(), 1e-30))
    off = np.abs(made.deviation[np.isfinite(made.deviation)])
    key = BlobStore(inputs.blobs).put_arrays(**made.arrays())
    figures = SurfaceFigures(
        triangles=len(made.faces),
        vertices=len(made.points),
        cell=round(wanted.cell, 3),
        deviation=round(float(np.median(off)) / spacing, 4) if len(off) else 0.0,
        closed=wanted.closed,
        filled=round(filled, 5),
        handles=made.handles,
        dropped=made.dropped,
        holes=0 if wanted.closed else len(rims(made.faces, opposite(made.faces, len(made.points)))),
        source=inputs.name,
        points=len(cloud["points"]),
        spacing=spacing,
        from_plain=inputs.from_plain,
        seconds=round(seconds, 2),
        speed=round(work(len(cloud["points"]), len(made.faces)) / seconds, 4) if seconds > SHORTEST else None,
    )
    text = f"{100 * filled:.0f} % of the surface was seen by no photo: it is made up to close it."
    hint = "Take photos of those sides, join a sitting of the object turned over, or leave holes open."
    problems = [problem(None, text, hint)] if filled > MUCH_FILLED else []
    return Outcome(figures, {("surface", None): key}, problems)
