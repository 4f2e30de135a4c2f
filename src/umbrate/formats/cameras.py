"""The cameras file: lenses and poses as JSON, described in docs/formats.md."""

import json

import numpy as np

from .files import CLOSED, written_aside
from .tables import TableWriter


def cameras_document(photos, lenses, unit=None, sigmas=None):
    """The document as a dictionary.

    Parameters
    ----------
    photos : list of dict
        ``name``, ``sitting``, ``file``, ``lens`` (id or None) and ``pose``, (4, 4) world to camera or None; ``sigma``,
        (turn in degrees, place in the unit) or None.
    lenses : dict of id to Lens
    unit : "mm" or None
    sigmas : dict of lens id to dict of parameter name to float, optional
    """
    return {
        "format": "umbrate-cameras",
        "version": 1,
        "unit": unit,
        "lenses": [
            {"id": i, **L.as_dict(), **({"sigma": sigmas[i]} if sigmas and i in sigmas else {})}
            for i, L in lenses.items()
        ],
        "photos": [
            {
                "name": p["name"],
                "sitting": p["sitting"],
                "file": p["file"],
                "lens": p["lens"],
                "world_to_camera": None if p["pose"] is None else np.asarray(p["pose"]).tolist(),
                **(
                    {"sigma": {"turn_deg": p["sigma"][0], "place": p["sigma"][1]}}
                    if p["pose"] is not None and p.get("sigma")
                    else {}
                ),
            }
            for p in photos
        ],
    }


CSV_HEAD = (
    "name", "sitting", "file", "lens", "x", "y", "z", "sigma of the place", *(f"r{i}{k}" for i in "123" for k in "123"),
    "sigma of the turn [deg]",
)  # fmt: skip


def _write_csv(path, photos, unit):
    """Places and rotations (world to camera, row by row) of solved photos."""
    with open(path, "w", newline="", encoding="utf-8") as f:
        w = TableWriter(f)
        sign = f" [{unit}]" if unit else ""
        w.writerow([h + sign if h in ("x", "y", "z", "sigma of the place") else h for h in CSV_HEAD])
        for p in photos:
            if p["pose"] is None:
                continue
            E = np.asarray(p["pose"])
            turn, place = p.get("sigma") or ("", "")
            eye = -E[:3, :3].T @ E[:3, 3]
            w.writerow(
                [
                    p["name"], p["sitting"], p["file"], p["lens"], *(f"{x:.6f}" for x in eye),
                    f"{place:.6g}" if place != "" else "", *(f"{x:.12f}" for x in E[:3, :3].ravel()),
                    f"{turn:.6g}" if turn != "" else "",
                ]
            )  # fmt: skip


def write_cameras(path, photos, lenses, unit=None, gate=CLOSED, sigmas=None):
    """Write the cameras file: JSON, or CSV by the file's ending, which has the solved photos without the lenses."""
    with written_aside(path, gate) as temporary:
        if str(path).lower().endswith(".csv"):
            _write_csv(temporary, photos, unit)
            return
        document = cameras_document(photos, lenses, unit, sigmas)
        temporary.write_text(json.dumps(document, indent=1, ensure_ascii=False), encoding="utf-8")
