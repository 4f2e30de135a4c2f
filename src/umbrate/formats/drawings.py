"""Lines, faces and sections as drawings: DXF, OBJ, SVG, CSV."""

from xml.sax.saxutils import escape

import numpy as np

from ..core.errors import UmbrateError
from ..core.later import Later
from .files import CLOSED, written_aside
from .tables import TableWriter

ezdxf = Later("ezdxf")


def _new_drawing(unit):
    doc = ezdxf.new("R2010")
    doc.units = ezdxf.units.MM if unit == "mm" else 0
    return doc


def shape_size(kind, X):
    """Length of a line, or area of a face, of points (n, 3)."""
    if kind == "line":
        return float(np.linalg.norm(np.diff(X, axis=0), axis=1).sum())
    return float(sum(0.5 * np.linalg.norm(np.cross(X[b] - X[a], X[c] - X[a])) for a, b, c in triangles(X)))


def write_shapes_dxf(path, points, lines, faces, unit="mm", gate=CLOSED):
    """Write marked points, lines and faces as DXF in three dimensions.

    points : dict of name to (3,); lines, faces : lists of (name, (n, 3)); faces with their last side closed

    Names stand beside them, with lengths and areas, on a layer of their own.
    """
    doc = _new_drawing(unit)
    space = doc.modelspace()
    for layer in ("points", "lines", "faces", "names"):
        doc.layers.add(layer)
    size = max((float(np.ptp(np.array(list(points.values())), axis=0).max()) if len(points) > 1 else 1.0), 1e-6) / 60
    for name, p in points.items():
        space.add_point(p, dxfattribs={"layer": "points"})
        space.add_text(name, height=size, dxfattribs={"layer": "names"}).set_placement(tuple(np.asarray(p) + size / 2))

    def told(X, text):
        place = tuple(np.asarray(X, float).mean(0))
        space.add_text(text, height=size, dxfattribs={"layer": "names"}).set_placement(place)

    for name, X in lines:
        space.add_polyline3d([tuple(x) for x in X], dxfattribs={"layer": "lines"})
        told(X, f"{name}  {shape_size('line', X):.3f} {unit}".strip())
    for name, X in faces:
        told(X, f"{name}  {shape_size('face', X):.3f} {unit}{'²' * bool(unit)}".strip())
        space.add_polyline3d([tuple(x) for x in X], close=True, dxfattribs={"layer": "faces"})
        for a, b, c in triangles(X):
            space.add_3dface([tuple(X[a]), tuple(X[b]), tuple(X[c]), tuple(X[c])], dxfattribs={"layer": "faces"})
    with written_aside(path, gate) as temporary:
        doc.saveas(temporary)


def write_shapes_obj(path, points, lines, faces, unit="mm", gate=CLOSED):
    """Write marked points, lines and faces as OBJ; see `write_shapes_dxf`."""
    rows, at = [f"# unit {unit or 'unscaled'}"], 1

    def put(X):
        nonlocal at
        rows.extend(f"v {x:.6f} {y:.6f} {z:.6f}" for x, y, z in X)
        at += len(X)
        return list(range(at - len(X), at))

    for name, p in points.items():
        rows.append(f"o {name.replace(' ', '_')}")
        rows.append(f"p {put([p])[0]}")
    for name, X in lines:
        rows.append(f"o {name.replace(' ', '_')}")
        rows.append("l " + " ".join(map(str, put(X))))
    for name, X in faces:
        rows.append(f"o {name.replace(' ', '_')}")
        rows.append("f " + " ".join(map(str, put(X))))
    with written_aside(path, gate) as temporary:
        temporary.write_text("\n".join(rows) + "\n", encoding="utf-8")


def triangles(X):
    """Triangles (row triples) of a face (n, 3), nearly flat, simple, by cutting off ears."""
    X = np.asarray(X, float)
    middle = X.mean(0)
    _, _, Vt = np.linalg.svd(X - middle)
    P = (X - middle) @ Vt[:2].T
    area = 0.5 * float((P[:, 0] * np.roll(P[:, 1], -1) - np.roll(P[:, 0], -1) * P[:, 1]).sum())
    if area < 0:
        P = P * [1.0, -1.0]
    left, out = list(range(len(P))), []

    def cross(a, b, c):
        return (P[b, 0] - P[a, 0]) * (P[c, 1] - P[a, 1]) - (P[b, 1] - P[a, 1]) * (P[c, 0] - P[a, 0])

    while len(left) > 3:
        for k in range(len(left)):
            a, b, c = left[k - 1], left[k], left[(k + 1) % len(left)]
            if cross(a, b, c) <= 0:
                continue
            others = [q for q in left if q not in (a, b, c)]
            if not any(cross(a, b, q) >= 0 and cross(b, c, q) >= 0 and cross(c, a, q) >= 0 for q in others):
                out.append((a, b, c))
                left.pop(k)
                break
        else:
            break  # crossing sides: what is left is one fan
    out += [(left[0], left[k], left[k + 1]) for k in range(1, len(left) - 1)]
    return out


# ---------------------------------------------------------------------- sections
def section_texts(section, unit):
    """What is written at a section: width, height, length of the outline, area where it is closed, gaps."""
    lo, hi = section.bounds
    u = f" {unit}" if unit else ""
    out = {
        "width": f"{hi[0] - lo[0]:.2f}{u}",
        "height": f"{hi[1] - lo[1]:.2f}{u}",
        "outline": f"{section.length:.1f}{u}",
    }
    if section.area is not None:
        out["area"] = f"{section.area:.1f}{u}²" if unit else f"{section.area:.4g}"
    gaps = section.gaps
    if gaps:
        out["gaps"] = f"{len(gaps)} closed, the widest {gaps[0]:.2g}{u}"
    if section.is_open:
        out["area of"] = "nothing: the outline is open"
    return out


def write_section_csv(path, section, gate=CLOSED):
    """Write a section's outline: piece, place in the plane, place in the world."""
    with written_aside(path, gate) as temporary, open(temporary, "w", newline="", encoding="utf-8") as f:
        w = TableWriter(f)
        w.writerow(["piece", "a", "b", "x", "y", "z"])
        for k, line in enumerate(section.lines):
            for (a, b), X in zip(line, section.places(line), strict=True):
                w.writerow([k + 1, f"{a:.5f}", f"{b:.5f}", *(f"{x:.5f}" for x in X)])


def write_section_dxf(path, section, unit="mm", gate=CLOSED):
    """Write a section's outline as DXF in its plane, with its two dimensions."""
    doc = _new_drawing(unit)
    doc.header["$INSUNITS"] = 4 if unit == "mm" else 0
    space = doc.modelspace()
    doc.layers.add("outline")
    doc.layers.add("dimensions")
    for line in section.lines:
        closed = bool(np.allclose(line[0], line[-1]))
        space.add_lwpolyline(
            [tuple(p) for p in (line[:-1] if closed else line)], close=closed, dxfattribs={"layer": "outline"}
        )
    if len(section.bridges):
        doc.layers.add("closed gaps", color=1)
    for a, b in section.bridges:  # what the cloud did not show is not passed off as measured
        space.add_line(tuple(a), tuple(b), dxfattribs={"layer": "closed gaps"})
    lo, hi = section.bounds
    gap = 0.08 * float((hi - lo).max())
    height = 0.03 * float((hi - lo).max())
    texts = section_texts(section, unit)
    for a, b, text, turn in (
        ((lo[0], lo[1] - gap), (hi[0], lo[1] - gap), texts["width"], 0),
        ((hi[0] + gap, lo[1]), (hi[0] + gap, hi[1]), texts["height"], 90),
    ):
        space.add_line(a, b, dxfattribs={"layer": "dimensions"})
        t = space.add_text(text, height=height, rotation=turn, dxfattribs={"layer": "dimensions"})
        t.set_placement(((a[0] + b[0]) / 2 + (height if turn else 0), (a[1] + b[1]) / 2 + (0 if turn else height / 2)))
    with written_aside(path, gate) as temporary:
        doc.saveas(temporary)


def write_section_svg(path, section, unit="mm", title="", gate=CLOSED):
    """Write a section's outline as SVG at its true size, with its dimensions."""
    lo, hi = section.bounds
    size = float((hi - lo).max())
    edge, letter = 0.16 * size, 0.035 * size
    w, h = hi[0] - lo[0] + 2 * edge, hi[1] - lo[1] + 2 * edge
    at = lambda p: (p[0] - lo[0] + edge, hi[1] - p[1] + edge)  # noqa: E731
    stroke = size / 500
    true = f' width="{w:.3f}mm" height="{h:.3f}mm"' if unit == "mm" else ' width="800"'
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg"{true} viewBox="0 0 {w:.4f} {h:.4f}" font-family="sans-serif" '
        f'font-size="{letter:.4f}">',
        f"<title>{escape(title or 'section')}</title>",
        f'<g fill="none" stroke="#202428" stroke-width="{stroke:.5f}" stroke-linejoin="round">',
    ]
    for line in section.lines:
        points = " ".join(f"{x:.4f},{y:.4f}" for x, y in map(at, line))
        out.append(f'<polyline points="{points}"/>')
    for a, b in (map(at, x) for x in section.bridges):  # what the cloud did not show is not passed off as measured
        d = f'd="M{a[0]:.4f} {a[1]:.4f}L{b[0]:.4f} {b[1]:.4f}"'
        dash = f'stroke-dasharray="{3 * stroke:.5f}"'
        out.append(f'<path stroke="#ffffff" stroke-width="{2 * stroke:.5f}" {d}/><path stroke="#b02a20" {dash} {d}/>')
    (x0, y0), (x1, y1) = at((lo[0], lo[1])), at((hi[0], hi[1]))
    tick, low, right = 0.015 * size, y0 + 0.4 * edge, x1 + 0.4 * edge
    out.append(
        f'<path stroke="#8a5a20" d="M{x0:.4f} {low:.4f}H{x1:.4f}M{x0:.4f} {low - tick:.4f}v{2 * tick:.4f}'
        f"M{x1:.4f} {low - tick:.4f}v{2 * tick:.4f}M{right:.4f} {y0:.4f}V{y1:.4f}M{right - tick:.4f} {y0:.4f}"
        f'h{2 * tick:.4f}M{right - tick:.4f} {y1:.4f}h{2 * tick:.4f}"/></g>'
    )
    texts = section_texts(section, unit)
    out.append(
        f'<g fill="#8a5a20" text-anchor="middle"><text x="{(x0 + x1) / 2:.4f}" y="{low + 1.3 * letter:.4f}">'
        f"{texts['width']}</text>"
        f'<text transform="translate({right + 1.2 * letter:.4f} {(y0 + y1) / 2:.4f}) rotate(-90)">'
        f"{texts['height']}</text></g>"
    )
    more = ", ".join(f"{k} {texts[k]}" for k in ("outline", "area", "gaps", "area of") if k in texts)
    out.append(f'<text x="{edge * 0.3:.4f}" y="{1.4 * letter:.4f}" fill="#202428">{escape(title)}  {more}</text></svg>')
    with written_aside(path, gate) as temporary:
        temporary.write_text("\n".join(out), encoding="utf-8")


def write_section(path, made, unit, title, gate=CLOSED):
    """Write a section in the format of the file's ending."""
    end = str(path).lower().rpartition(".")[2]
    if end == "svg":
        write_section_svg(path, made, unit, title, gate)
    elif end == "dxf":
        write_section_dxf(path, made, unit, gate)
    elif end == "csv":
        write_section_csv(path, made, gate)
    else:
        raise UmbrateError(f"{path}: sections go out as .svg, .dxf or .csv.")
