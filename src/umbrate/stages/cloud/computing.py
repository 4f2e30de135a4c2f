"""A run of the Cloud stage: the points that depth maps agree on, and figures of them."""

import numpy as np

from ...core.cloud.grid import spacing_of
from ...core.geometry.similarity import scale_of
from ...job.scratch import Scratch
from ..base import Outcome, problem
from ..dense.maps import DenseRun
from .figures import CloudFigures

TWO = "Two photos only: no third one confirms a point, so this cloud is less safe than one of three."


def run(inputs, settings, report):
    """Compute; returns the Outcome."""
    with Scratch.of_job(inputs.blobs) as scratch:
        return _outcome(DenseRun(inputs, settings, report, scratch))


def _outcome(dense):
    inputs, settings = dense.inputs, dense.settings
    dense.maps()
    cloud = dense.points()
    # a well-mixed order: any first part of the cloud is an even sample of it, which the scene draws while it moves
    cloud = cloud.take(np.random.default_rng(settings.seed).permutation(len(cloud)))
    artefacts = {**dense.artefacts, ("cloud", None): dense.blobs.put_arrays(**cloud.arrays())}
    last = np.flatnonzero(dense.agreed[0])[-1] + 1
    agreeing, sure = (np.round(row[:last]).astype(int).tolist() for row in dense.agreed)
    figures = CloudFigures(
        points=len(cloud),
        fused=dense.fused,
        thinned=dense.thinned,
        spacing=spacing_of(cloud.points),
        removed_isolated=dense.lost_isolated,
        removed_outline=dense.lost_outline,
        photos=len(dense.photos),
        reused=dense.reused,
        photo_scale=settings.photo_scale,
        pixel_size=float(np.median(list(dense.ground.values()))) / scale_of(np.array(inputs.from_plain)),
        from_plain=inputs.from_plain,
        photos_per_point=round(float(cloud.photos.mean()), 2),
        score=round(float(np.median(cloud.score)), 3),
        agreeing=agreeing,
        sure=sure,
        photos_histogram=np.bincount(cloud.photos, minlength=3).tolist(),
        **{k: round(v, 2) for k, v in dense.times.items()},
    )
    advice = "Take a third photo, or look at places that repeat yourself."
    return Outcome(figures, artefacts, [problem(None, TWO, advice)] if len(dense.photos) == 2 else [])
