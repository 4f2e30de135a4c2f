"""A surface as one HTML file that any browser opens without network: turned, zoomed and measured in it.

The page's own program is in `page.html`; here the arrays are put into it, in whole numbers: places in steps of a
65,535th of the extent, normals of a 127th.
"""

import base64
import html
import json
from importlib import resources

import numpy as np

from .files import CLOSED, written_aside

STEPS = 65535


def _packed(a):
    return base64.b64encode(np.ascontiguousarray(a).tobytes()).decode("ascii")


def page_text(mesh, page=None, *, title, rows=(), unit=None):
    """The text of the page.

    Parameters
    ----------
    mesh : dict
        points, normals (n, 3), z up, faces (t, 3); with a page: corner (t, 3), uv (m, 2), vertex (m,); without: colors
        (n, 3) where there are any.
    page : bytes, optional
        A PNG or JPEG file.
    title : str
    rows : (what, value) texts
        Figures that the page lists.
    unit : "mm" or None
    """
    v = mesh["vertex"] if page else np.arange(len(mesh["points"]))
    points = mesh["points"].astype(np.float64)
    low, step = points.min(0), np.maximum(np.ptp(points, axis=0), 1e-12) / STEPS
    data = {
        "unit": unit or "", "points": len(v), "low": low.tolist(), "step": step.tolist(),
        "places": _packed(np.round((points[v] - low) / step).astype("<u2")),
        "normals": _packed(np.round(127 * mesh["normals"][v]).clip(-127, 127).astype("i1")),
        "index": _packed(mesh["corner" if page else "faces"].astype("<u4")),
    }  # fmt: skip
    if page:
        kind = "png" if page[:4] == b"\x89PNG" else "jpeg"
        uv = mesh["uv"] * [1, -1] + [0, 1]  # rows from above
        data["uv"] = _packed(np.round(STEPS * uv.clip(0, 1)).astype("<u2"))
        data["page"] = f"data:image/{kind};base64,{base64.b64encode(page).decode('ascii')}"
    elif "colors" in mesh:
        data["colors"] = _packed(mesh["colors"].astype("u1"))
    cells = "".join(f"<tr><td>{html.escape(str(a))}</td><td>{html.escape(str(b))}</td></tr>" for a, b in rows)
    text = resources.files(__package__).joinpath("page.html").read_text("utf-8")
    # what is put in is not looked through again: a title may hold what stands for something
    out = text.replace("@DATA@", "\0data").replace("@ROWS@", "\0rows").replace("@TITLE@", "\0title")
    for mark, value in (
        ("data", json.dumps(data).replace("<", "\\u003c")),
        ("rows", cells),
        ("title", html.escape(title)),
    ):
        out = out.replace(f"\0{mark}", value.replace("\0", ""))
    return out


def write_page(path, text, gate=CLOSED):
    """Write the text of `page_text`."""
    with written_aside(path, gate) as temporary:
        temporary.write_text(text, "utf-8")
