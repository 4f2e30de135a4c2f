"""Cloud: the points, thinned where that is wanted."""

import numpy as np

from ...core.cloud.filters import thin_by_spacing
from ...core.errors import UmbrateError
from ...formats.clouds import write_cloud
from ...sitting.clouds import load_cloud
from .figures import Check
from .reading import check_cloud, extent_of


def make(d):
    """Write the cloud; see `making.Delivery`."""
    s = d.settings
    kept = d.job.cloud(d.sitting.id, s.cloud or None)
    d.progress(0.1, "reading the cloud")
    cloud = load_cloud(d.job, d.sitting, kept)
    before = len(cloud["points"])
    if s.spacing:
        stay = thin_by_spacing(cloud["points"], s.spacing)
        cloud = {k: v[stay] for k, v in cloud.items()}
        if len(cloud["points"]) < 2:
            text = "No cloud is left when it is thinned so far. Take a smaller distance."
            raise UmbrateError(text, ("set", "spacing", 0.0))
        d.checks.append(Check(text=f"Thinned from {before:,} to {len(cloud['points']):,} points"))
    d.progress(0.5, "writing")
    out = d.folder / f"{d.name}.{s.cloud_format}"
    write_cloud(out, cloud, d.unit, offset=d.frame.offset)
    d.progress(0.8, "reading back")
    in_meters = d.unit == "mm" and s.cloud_format in ("las", "laz", "e57")
    extent = extent_of(cloud["points"].astype(np.float64)) * (1e-3 if in_meters else 1.0)
    d.checks.append(check_cloud(out, len(cloud["points"]), extent, "m" if in_meters else d.unit))
