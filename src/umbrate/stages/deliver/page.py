"""Page: one HTML file that any browser opens without network."""

import json
import re
from html.parser import HTMLParser

from ...formats.page import page_text, write_page
from .figures import Check, size_told
from .models import encoded, load_model, on_one_page, reached
from .reading import extent_of, extent_told, wrong

TRIANGLE_BYTES = 27  #: of a page for a triangle: its corners, and its share of places


def rows_of(d, model):
    """Figures of the job that a page lists: (what, value)."""
    photos = d.job.photos(d.sitting.id, aside=False)
    rows = [("Size", extent_told(extent_of(model.arrays["points"]), d.unit)), ("Triangles", f"{model.triangles:,}")]
    rows.append(("Photos", f"{len(photos)}"))
    for stage in ("scale", "cloud", "surface", "texture"):
        done = d.job.result(d.sitting.id, stage)
        if done is not None:
            rows += [(f"{stage.title()}: {title.lower()}", value) for title, value, _ in done.figures.rows()][:3]
    if not d.unit:
        rows.append(("Unit", "the job has no scale: lengths are relative"))
    return rows


def make(d):
    """Write the page; see `making.Delivery`."""
    s, out = d.settings, d.folder / f"{d.name}.html"
    d.progress(0.1, "reading the model")
    first = load_model(d, s.triangles, s.page_side, s.color_by == "texture")
    if len(first.pages) > 1:  # a page has one image
        first = on_one_page(d, first, min(2 * first.side, s.page_side))

    def write(model, quality):
        page = encoded(model.pages[0], "jpeg", quality) if model.pages else None
        out.unlink(missing_ok=True)
        write_page(out, page_text(model.arrays, page, title=d.name, rows=rows_of(d, model), unit=d.unit))
        return out.stat().st_size

    model, done = reached(d, first, write, setting="page_mb", each=TRIANGLE_BYTES, lossy=True)
    told = f"{size_told(out.stat().st_size)}, {model.triangles:,} triangles"
    told += f", a page of {model.side:,}² texels" if model.pages else ", colors of vertices"
    d.checks.append(Check(text=told + done))
    d.checks.append(_read_back(out, model))


class _Reader(HTMLParser):
    """What a page holds: its arrays as text, and what it would ask for from elsewhere."""

    def __init__(self):
        super().__init__()
        self.data, self.asked, self._inside = "", [], False

    def handle_starttag(self, tag, attrs):
        self._inside = tag == "script" and dict(attrs).get("id") == "data"
        self.asked += [v for k, v in attrs if k in ("src", "href") and v]

    def handle_endtag(self, tag):
        self._inside = self._inside and tag != "script"

    def handle_data(self, data):
        self.data += data if self._inside else ""


def _read_back(path, model):
    """A Check that the page holds its arrays and asks for nothing from a network."""
    text, reader = path.read_text("utf-8"), _Reader()
    reader.feed(text)
    try:
        data = json.loads(reader.data)
    except ValueError as e:
        raise wrong(path, str(e)) from e
    if data["points"] != len(model.arrays["vertex" if model.pages else "points"]):
        raise wrong(path, f"{data['points']:,} places")
    if reader.asked or re.search(r"https?://(?!www\.w3\.org)", text.replace(reader.data, "")):
        raise wrong(path, "it would ask for something from a network")
    return Check(text=f"{path.name} read back: {data['points']:,} places, asks for nothing from a network")
