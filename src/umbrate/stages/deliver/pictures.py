"""Pictures: the object turning, a sheet of its six sides at one scale, an orthophoto."""

import io

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from ...core.errors import UmbrateError
from ...core.later import Later
from ...core.raster.camera import eye_round
from ...core.raster.pictures import DIRECTIONS
from ...core.raster.solid import draw_triangles, paint_triangles
from ...core.raster.textured import paint_textured
from ...formats.films import GIF_RATE, write_film
from .drawing import Painter
from .figures import Check
from .models import load_model
from .reading import wrong

av = Later("av")
canvas = Later("reportlab.pdfgen.canvas")
readers = Later("reportlab.lib.utils")

GROUNDS = {"dark": (38, 40, 43), "gray": (128, 128, 128), "white": (255, 255, 255)}
RATE = 30  #: pictures a second of a film
SIDES = ("front", "right", "back", "left", "top", "bottom")
MOST_PIXELS = 30_000
A4 = 297.0, 210.0  #: mm, lying


def _painter(d):
    """The Painter of a Delivery's model."""
    plain = d.settings.look == "plain"
    return Painter(load_model(d, textured=not plain), plain)


def make(d):
    """Write the pictures; see `making.Delivery`."""
    {"spin": _spin, "sides": _sides, "orthophoto": _orthophoto}[d.settings.picture](d)


# ---------------------------------------------------------------------- turning
def _spin(d):
    s = d.settings
    d.progress(0.05, "reading the model")
    painter = _painter(d)
    rate = GIF_RATE if s.film == "gif" else RATE
    count = max(round(s.film_seconds * rate), 2)
    w = s.width // 2 * 2
    h = w * 9 // 16 // 2 * 2
    lo, hi = painter.points.min(0).astype(float), painter.points.max(0).astype(float)
    middle = (lo + hi) / 2
    around = float(np.hypot(*(painter.points[:, :2] - middle[:2]).T).max())
    radius = max(float(np.hypot(around, (hi[2] - lo[2]) / 2)) * 0.92, 1e-9)

    def frames():
        for k in range(count):
            turn = 2 * np.pi * s.turns * k / count - np.pi / 2 + 0.4
            direction = (np.cos(turn), np.sin(turn), 0.32)
            d.progress(0.1 + 0.75 * k / count, "drawing the object turning")
            yield painter.draw(eye_round(middle, radius, direction, w, h), (w, h), GROUNDS[s.ground])

    out = d.folder / f"{d.name}.{s.film}"
    write_film(out, frames(), count, rate)
    d.progress(0.9, "reading back")
    found, size = _film_facts(out)
    if abs(found - count) > 1 or size != (w, h):
        raise wrong(out, f"{found} pictures of {size[0]} x {size[1]} for {count} of {w} x {h}")
    d.checks.append(Check(text=f"{out.name} read back: {found} pictures of {w} x {h}, {count / rate:.1f} s"))


def _film_facts(path):
    """How many pictures a film has, and their (width, height)."""
    if path.suffix == ".gif":
        with Image.open(path) as image:
            return image.n_frames, image.size
    with av.open(str(path)) as film:
        stream = film.streams.video[0]
        return sum(1 for _ in film.decode(stream)), (stream.width, stream.height)


# ---------------------------------------------------------------------- parallel views
def _flat_eye(side, points, pixel):
    """An Eye along parallel rays, and the size (width, height) of the picture that holds the points.

    pixel : its width on the object
    """
    direction = np.asarray(DIRECTIONS[side], float)
    lo, hi = points.min(0).astype(float), points.max(0).astype(float)
    eye = eye_round((lo + hi) / 2, float(np.linalg.norm(hi - lo)) / 2, direction, 64, 64)
    eye.parallel = True
    X = points.astype(np.float64) @ eye.pose[:3, :3].T + eye.pose[:3, 3]
    low, high = X[:, :2].min(0), X[:, :2].max(0)
    # the middle of the picture is the middle of what is seen
    eye.pose[:2, 3] -= (low + high) / 2
    size = np.ceil((high - low) / pixel).astype(int) + 2
    eye.f = eye.flat / pixel
    return eye, (int(size[0]), int(size[1]))


def _axis(direction):
    """The axis (x, -y, ...) that a direction (3,) is."""
    k = int(np.abs(direction).argmax())
    return ("-" if direction[k] < 0 else "") + "xyz"[k]


def _bar_length(most):
    """A round length no longer than `most`."""
    ten = 10.0 ** np.floor(np.log10(max(most, 1e-30)))
    return float(next((x * ten for x in (5, 2, 1) if x * ten <= most), ten))


def _sides(d):
    """Six sides at one scale, with a bar."""
    s = d.settings
    d.progress(0.1, "reading the model")
    painter = _painter(d)
    points, unit = painter.points, d.unit or "units"
    extent = np.ptp(points, axis=0).astype(float)
    columns, rows = 3, 2
    w = s.width
    gap = max(w // 60, 8)
    cell = (w - (columns + 1) * gap) // columns
    # every side fits: the widest and the highest of all
    wide, high = max(extent[0], extent[1]), max(extent[2], extent[1])
    pixel = max(wide / (cell - 2), 1e-12)
    tall = int(np.ceil(high / pixel)) + 2
    text = max(w // 64, 11)
    h = rows * (tall + text + 2 * gap) + gap + 3 * text
    ground = GROUNDS[s.ground]
    ink = (20, 20, 20) if s.ground == "white" else (235, 233, 228)
    sheet = Image.new("RGB", (w, h), ground)
    pen, font = ImageDraw.Draw(sheet), ImageFont.load_default(text)
    for k, side in enumerate(SIDES):
        d.progress(0.2 + 0.1 * k, f"drawing the {side}")
        eye, size = _flat_eye(side, points, pixel)
        x, y = gap + k % columns * (cell + gap), gap + k // columns * (tall + text + 2 * gap)
        made = Image.fromarray(painter.draw(eye, size, ground))
        sheet.paste(made, (x + (cell - size[0]) // 2, y + tall - size[1] if k < 4 else y + (tall - size[1]) // 2))
        pen.text((x, y + tall + 4), side, ink, font)
    long = _bar_length(cell * 0.8 * pixel)
    y = h - gap - text // 2
    pen.rectangle((gap, y - text // 3, gap + round(long / pixel), y), ink)
    pen.text((gap, y - text // 3 - text - 6), f"{long:g} {unit}", ink, font)
    name = f"{d.name}, {d.sitting.name}" if d.sitting.name not in d.name else d.name
    pen.text((w - gap, y - text), name, ink, font, anchor="ra")
    out = d.folder / f"{d.name}.{s.sheet_format}"
    if s.sheet_format == "png":
        sheet.save(out, "PNG")
        with Image.open(out) as back:
            if back.size != (w, h):
                raise wrong(out, f"{back.size[0]} x {back.size[1]} pixels")
        told = f"{out.name}: six sides, a pixel is {pixel:.4g} {unit}, the bar {long:g} {unit}"
    else:
        scale = _pdf(out, sheet, pixel, d)
        told = f"{out.name}: six sides on A4{scale}, the bar {long:g} {unit}"
    d.checks.append(Check(text=told))


def _pdf(path, sheet, pixel, d):
    """Write the sheet onto a page of A4; returns the scale in words."""
    margin = 10.0
    mm = min((A4[0] - 2 * margin) / sheet.width, (A4[1] - 2 * margin - 8) / sheet.height)
    points = 72 / 25.4
    c = canvas.Canvas(str(path), pagesize=(A4[0] * points, A4[1] * points))
    c.setTitle(d.name)
    c.setCreator("Umbrate")
    data = io.BytesIO()
    sheet.save(data, "PNG")
    data.seek(0)
    c.drawImage(readers.ImageReader(data), margin * points, (margin + 8) * points, sheet.width * mm * points,
                sheet.height * mm * points)  # fmt: skip
    told = ""
    if d.unit:
        ratio = pixel / mm
        told = f" at 1:{ratio:.3g}" if ratio >= 1 else f" at {1 / ratio:.3g}:1"
        c.setFont("Helvetica", 8)
        c.drawString(margin * points, margin * points, f"Scale{told[3:]} when printed at 100 %")
    c.save()
    if path.read_bytes()[:5] != b"%PDF-":
        raise wrong(path, "it is no PDF")
    return told


def _orthophoto(d):
    """One side along parallel rays, a pixel of a stated size, with its world file."""
    s = d.settings
    d.progress(0.1, "reading the model")
    painter = _painter(d)
    points = painter.points
    eye, (w, h) = _flat_eye(s.side, points, s.pixel)
    if max(w, h) > MOST_PIXELS:
        fits = s.pixel * max(w, h) / MOST_PIXELS
        text = f"This would be {w:,} x {h:,} pixels; {MOST_PIXELS:,} a side are the most. Pixels of {fits:.2g} fit."
        raise UmbrateError(text, ("set", "pixel", float(f"{1.05 * fits:.2g}")))
    d.progress(0.4, "drawing")
    solid = draw_triangles(painter.points, painter.model.arrays["faces"], eye, w, h)
    if painter.pages is not None:
        made = paint_textured(solid, painter.model.arrays, painter.pages, (0, 0, 0))
    else:
        made = paint_triangles(solid, painter.model.arrays, painter.colors, eye, (0, 0, 0), (0, 0, 0))
    rgba = np.ascontiguousarray(made[:, :, [2, 1, 0, 3]])
    rgba[..., 3] = np.where(solid.buffers.index >= 0, 255, 0)
    out = d.folder / f"{d.name}.png"
    resolution = 25.4 / s.pixel if d.unit else None
    known = {"dpi": (resolution, resolution)} if resolution and resolution < 60_000 else {}
    Image.fromarray(rgba).save(out, "PNG", **known)
    # the place of the first pixel's middle in the axes of the picture
    pose = eye.pose
    right, down = pose[0, :3], pose[1, :3]
    corner = np.array([-(w - 1) / 2 * s.pixel - pose[0, 3], -(h - 1) / 2 * s.pixel - pose[1, 3]])
    offset = np.asarray(d.frame.offset, float)
    x = float(corner[0] + right @ offset)
    y = float(-(corner[1] + down @ offset))
    world = (s.pixel, 0.0, 0.0, -s.pixel, x, y)
    (d.folder / f"{d.name}.pgw").write_text("".join(f"{v:.9g}\n" for v in world), "ascii")
    with Image.open(out) as back:
        if back.size != (w, h):
            raise wrong(out, f"{back.size[0]} x {back.size[1]} pixels")
    unit = d.unit or "units"
    axes = f"right is {_axis(right)}, up is {_axis(-down)}"
    told = f"{out.name}: {w:,} x {h:,} pixels of {s.pixel:g} {unit}, {axes}; {d.name}.pgw says where"
    d.checks.append(Check(text=told))
