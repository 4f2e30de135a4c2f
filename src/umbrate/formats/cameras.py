"""The cameras file: lenses and poses as JSON, described in docs/formats.md."""

import json

import numpy as np

from .files import written_aside


def cameras_document(photos, lenses, unit=None):
    """The document as a dictionary.

    Parameters
    ----------
    photos : list of dict
        ``name``, ``sitting``, ``file``, ``lens`` (id or None) and ``pose``, (4, 4) world to camera or None.
    lenses : dict of id to Lens
    unit : "mm" or None
    """
    return {
        "format": "umbrate-cameras",
        "version": 1,
        "unit": unit,
        "lenses": [{"id": i, **L.as_dict()} for i, L in lenses.items()],
        "photos": [
            {
                "name": p["name"],
                "sitting": p["sitting"],
                "file": p["file"],
                "lens": p["lens"],
                "world_to_camera": None if p["pose"] is None else np.asarray(p["pose"]).tolist(),
            }
            for p in photos
        ],
    }


def write_cameras(path, photos, lenses, unit=None):
    """Write the cameras file."""
    with written_aside(path) as temporary:
        temporary.write_text(
            json.dumps(cameras_document(photos, lenses, unit), indent=1, ensure_ascii=False), encoding="utf-8"
        )
