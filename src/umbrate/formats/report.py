"""The accuracy report as PDF: plain values in, pages out. `actions.reporting` makes the values."""

import io

import numpy as np
from reportlab.graphics.shapes import Drawing, Line, Rect, String
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.platypus import (
    Image,
    KeepTogether,
    PageBreak,
    Paragraph,
    SimpleDocTemplate,
    Spacer,
    Table,
    TableStyle,
)

from .files import CLOSED, written_aside
from .fonts import in_fonts

INK, QUIET, LINE, ACCENT = (colors.HexColor(x) for x in ("#202428", "#6A7075", "#C9CDD1", "#B5701F"))
PLAIN = ParagraphStyle("plain", fontName="Helvetica", fontSize=9, leading=12.5, textColor=INK)
SMALL = ParagraphStyle("small", parent=PLAIN, fontSize=7.5, leading=10)
SMALL_QUIET = ParagraphStyle("quiet", parent=SMALL, textColor=QUIET)
TITLE = ParagraphStyle("title", parent=PLAIN, fontName="Helvetica-Bold", fontSize=19, leading=24)
HEADING = ParagraphStyle(
    "heading", parent=PLAIN, fontName="Helvetica-Bold", fontSize=11, leading=15, spaceBefore=9, spaceAfter=3
)
WIDTH = A4[0] - 36 * mm - 12  #: less what a frame keeps free at its sides


def _text(x, style=PLAIN):
    return Paragraph(in_fonts(str(x), style.fontName), style)


def _table(head, rows, widths, right=()):
    data = [
        [_text(h, SMALL_QUIET) for h in head],
        *[[c if hasattr(c, "wrap") else _text(c, SMALL) for c in r] for r in rows],
    ]
    for r in data:
        for k in right:
            r[k] = (
                Paragraph(f"<para align=right>{r[k].text}</para>", r[k].style) if isinstance(r[k], Paragraph) else r[k]
            )
    t = Table(data, [w * WIDTH for w in widths], repeatRows=1, hAlign="LEFT")
    t.setStyle(
        TableStyle(
            [
                ("LINEBELOW", (0, 0), (-1, 0), 0.7, INK),
                ("LINEBELOW", (0, 1), (-1, -1), 0.3, LINE),
                ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 1.5),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
                ("RIGHTPADDING", (0, 0), (-1, -1), 4),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
            ]
        )
    )
    return t


def _counted(s, u):
    if s["count"] == 1:
        return f"One known length of {s['longest']:g}{u}"
    return f"{s['count']} known lengths of {s['shortest']:g} to {s['longest']:g}{u}"


def _signed(x, digits):
    return "-" if x is None else f"{x:+.{digits}f}"


def length_errors(checks, unit, width=WIDTH, height=52 * mm):
    """A drawing of errors over lengths, with the intervals that were stated for them."""
    d = Drawing(width, height)
    left, bottom, right, top = 16 * mm, 11 * mm, width - 4 * mm, height - 6 * mm
    longest = 1.08 * max(c["stated"] for c in checks)
    limit = 1.15 * max(max(abs(c["error"]) + c["half95"] for c in checks), 1e-9)
    x = lambda v: left + (right - left) * v / longest  # noqa: E731
    y = lambda v: (bottom + top) / 2 + (top - bottom) / 2 * v / limit  # noqa: E731
    d.add(Rect(left, bottom, right - left, top - bottom, strokeColor=LINE, fillColor=None, strokeWidth=0.5))
    d.add(Line(left, y(0), right, y(0), strokeColor=QUIET, strokeWidth=0.6))
    for v in _ticks(-limit, limit, 4):
        d.add(Line(left - 2, y(v), left, y(v), strokeColor=QUIET, strokeWidth=0.5))
        d.add(String(left - 4, y(v) - 2.5, f"{v:+.3g}", fontSize=7, textAnchor="end", fillColor=QUIET))
    for v in _ticks(0, longest, 6):
        d.add(Line(x(v), bottom - 2, x(v), bottom, strokeColor=QUIET, strokeWidth=0.5))
        d.add(String(x(v), bottom - 10, f"{v:g}", fontSize=7, textAnchor="middle", fillColor=QUIET))
    d.add(String((left + right) / 2, bottom - 21, f"length ({unit})", fontSize=7, textAnchor="middle", fillColor=QUIET))
    d.add(String(left, top + 4, f"error ({unit}) with its 95 % interval", fontSize=7, fillColor=QUIET))
    for c in checks:
        u = x(c["stated"])
        lo, hi = y(c["error"] - c["half95"]), y(c["error"] + c["half95"])
        d.add(Line(u, lo, u, hi, strokeColor=ACCENT, strokeWidth=0.8))
        for v in (lo, hi):
            d.add(Line(u - 2, v, u + 2, v, strokeColor=ACCENT, strokeWidth=0.8))
        d.add(Rect(u - 1.6, y(c["error"]) - 1.6, 3.2, 3.2, fillColor=ACCENT, strokeColor=None))
    return d


def _ticks(lo, hi, count):
    step = (hi - lo) / count
    power = 10.0 ** np.floor(np.log10(step))
    step = next(s * power for s in (1, 2, 5, 10) if s * power >= step * 0.999)
    return np.arange(np.ceil(lo / step), np.floor(hi / step) + 1) * step


def bars(edges, counts, axis, width=WIDTH / 2 - 4 * mm, height=38 * mm):
    """A drawing of a histogram; `edges` has one value more than `counts`."""
    d = Drawing(width, height)
    left, bottom, right, top = 4 * mm, 10 * mm, width - 3 * mm, height - 2 * mm
    most = max(max(counts), 1)
    x = lambda v: left + (right - left) * (v - edges[0]) / (edges[-1] - edges[0])  # noqa: E731
    for a, b, n in zip(edges, edges[1:], counts, strict=False):
        d.add(
            Rect(
                x(a) + 0.4,
                bottom,
                max(x(b) - x(a) - 0.8, 0.3),
                (top - bottom) * n / most,
                fillColor=QUIET,
                strokeColor=None,
            )
        )
    d.add(Line(left, bottom, right, bottom, strokeColor=INK, strokeWidth=0.6))
    for v in _ticks(edges[0], edges[-1], 6):
        d.add(String(x(v), bottom - 9, f"{v:g}", fontSize=7, textAnchor="middle", fillColor=QUIET))
    d.add(String((left + right) / 2, bottom - 20, axis, fontSize=7, textAnchor="middle", fillColor=QUIET))
    return d


def length_error_summary(checks):
    """What the check lengths say together: count, span of lengths, directions, largest error; None without any."""
    if not checks:
        return None
    D = np.array([c["direction"] for c in checks])
    s = np.linalg.svd(D, compute_uv=False)
    # lengths in one direction say nothing of the others
    spread = int((s > 0.2 * s[0]).sum())
    worst = max(checks, key=lambda c: abs(c["error"]))
    inside = sum(abs(c["error"]) <= c["half95"] for c in checks)
    return {
        "count": len(checks), "shortest": min(c["stated"] for c in checks), "longest": max(c["stated"] for c in checks),
        "directions": spread, "worst": worst, "inside": inside,
    }  # fmt: skip


def _lenses(lenses):
    """All lenses with the standard deviation of each parameter that was solved."""
    out = [_text("Lenses" if len(lenses) > 1 else "Lens", HEADING)]
    for lens in lenses:
        out.append(_text(f"{lens['name']}: {lens['photos']} photos", SMALL))
        rows = []
        for name, value in lens["values"].items():
            sd = lens["sigma"].get(name)
            if value == 0.0 and sd is None:
                continue
            form = "{:.3f}" if name in ("f", "cx", "cy", "b1", "b2") else "{:.6f}"
            unit = "px" if name in ("f", "cx", "cy", "b1", "b2") else ""
            rows.append((name, form.format(value), form.format(sd) if sd is not None else "held", unit))
        out.append(_table(("parameter", "value", "one sigma", ""), rows, (0.2, 0.2, 0.2, 0.1), (1, 2)))
        out.append(Spacer(1, 2 * mm))
    return out


def _foot(content):
    def draw(canvas, doc):
        canvas.saveState()
        canvas.setFont("Helvetica", 7.5)
        canvas.setFillColor(QUIET)
        told = f"{content['job']}, {content['sitting']}; made by Umbrate {content['version']}, {content['date']}"
        line = _text(told, SMALL_QUIET)
        line.wrap(WIDTH, 12)
        line.drawOn(canvas, 18 * mm, 9 * mm)
        canvas.setFont("Helvetica", 7.5)
        canvas.drawRightString(A4[0] - 18 * mm, 10 * mm, f"page {doc.page}")
        canvas.restoreState()

    return draw


def _head(content):
    """Title, and views of the object side by side."""
    told = f"{content['job']}, sitting {content['sitting']}; {content['date']}; Umbrate {content['version']}"
    wide = WIDTH / 2 - 2 * mm
    pictures = [Image(io.BytesIO(png), wide, wide * 620 / 900) for _, png in content["pictures"]]
    words = [_text(w, SMALL_QUIET) for w, _ in content["pictures"]]
    style = [("LEFTPADDING", (0, 0), (-1, -1), 0), ("RIGHTPADDING", (0, 0), (-1, -1), 4)]
    return [
        _text("Accuracy report", TITLE), _text(told, SMALL_QUIET), Spacer(1, 4 * mm),
        Table([pictures, words], [WIDTH / 2] * 2, style=style),
    ]  # fmt: skip


def _length_error(content):
    """How wrong known lengths are that took no part in the scale."""
    unit, s = content["unit"], length_error_summary(content["checks"])
    out = [_text("Length measurement error", HEADING)]
    if not s:
        return [
            *out,
            _text(
                "There are no check lengths, so nothing independent shows how wrong a length is. State known lengths "
                "as check lengths, several and in several directions."
            ),
        ]
    w, u = s["worst"], f" {unit}" if unit else ""
    spread = (
        "The lengths lie in three independent directions."
        if s["directions"] >= 3
        else "They do not span three directions of the volume: what they show holds for their own directions only."
    )
    out.append(
        _text(
            f"{_counted(s, u)} took no part in the scale. "
            f"The largest error is {w['error']:+.3f}{u} ({w['ends']}, {w['stated']:g}{u}). {s['inside']} of "
            f"{s['count']} lie within the 95 % interval that was stated for them. {spread}"
        )
    )
    return [*out, length_errors(content["checks"], unit or "unscaled")]


def _facts(content):
    """What it was made from, and what is wrong with it."""
    facts = Table([[_text(a, SMALL_QUIET), _text(b, SMALL)] for a, b in content["facts"]], [0.16 * WIDTH, 0.84 * WIDTH])
    padding = [(f"{where}PADDING", (0, 0), (-1, -1), n) for where, n in (("TOP", 1), ("BOTTOM", 1), ("LEFT", 0))]
    facts.setStyle(TableStyle([*padding, ("VALIGN", (0, 0), (-1, -1), "TOP")]))
    notes = [_text(f"Note: {p}", SMALL) for p in content["problems"]]
    return [_text("What it was made from", HEADING), facts, *notes]


def _scale_lengths(content):
    if not content["scales"]:
        return []
    rows = [
        (r["ends"], f"{r['stated']:.3f}", f"{r['sigma']:.3f}", f"{r['measured']:.4f}",
         _signed(r["residual"], 4), _signed(r["sigmas"], 1),
         "left out" if r["left_out"] else "printed sheet" if r["from"] == "sheet" else "")
        for r in content["scales"]
    ]  # fmt: skip
    heads = ("ends", f"stated ({content['unit']})", "its sigma", "adjusted", "residual", "in sigmas", "")
    table = _table(heads, rows, (0.32, 0.13, 0.1, 0.13, 0.12, 0.1, 0.1), (1, 2, 3, 4, 5))
    return [_text("Lengths that set the scale", HEADING), table]


def _check_lengths(content):
    if not content["checks"]:
        return []
    rows = [
        (r["ends"], f"{r['stated']:.3f}", f"{r['sigma']:.3f}", f"{r['measured']:.4f}",
         f"{r['error']:+.4f}", f"± {r['half95']:.4f}",
         ", ".join(f"{x:+.2f}" for x in r["direction"]))
        for r in content["checks"]
    ]  # fmt: skip
    heads = ("ends", f"stated ({content['unit']})", "its sigma", "measured", "error", "95 %", "direction (x, y, z)")
    repeat = (
        "To repeat the judgment in the way of VDI/VDE 2634 part 1: lay known lengths in at least seven lines across "
        "the volume, five or more on each, in different directions; state them as check lengths; compare each error "
        "with the limit that was agreed (a constant and a part that grows with the length). The system passes where "
        "all errors lie within it."
    )
    table = _table(heads, rows, (0.28, 0.12, 0.09, 0.12, 0.11, 0.11, 0.17), (1, 2, 3, 4, 5))
    return [_text("Check lengths", HEADING), table, Spacer(1, 2 * mm), _text(repeat, SMALL_QUIET)]


def _known_points(content):
    if not content["known"]:
        return []
    rows = [
        (n, *(f"{x:+.4f}" for x in k["residual"]), f"{max(abs(x) for x in k['sigmas']):.1f}")
        for n, k in content["known"].items()
    ]
    heads = ("point", f"x ({content['unit']})", "y", "z", "worst, in sigmas")
    return [_text("Known points", HEADING), _table(heads, rows, (0.3, 0.17, 0.17, 0.17, 0.19), (1, 2, 3, 4))]


def _measurements(content):
    if not content["measurements"]:
        return []
    table = _table(("name", "kind", "ends", "value"), content["measurements"], (0.14, 0.12, 0.4, 0.34))
    return [_text("Measurements, with 95 % intervals", HEADING), table]


def _surface(content):
    """What the surface measures, and a page of how far it is from a model."""
    s = content.get("surface")
    if not s:
        return []
    steps = [_text(f"Mended by: {'; '.join(s['steps'])}", SMALL_QUIET)] if s["steps"] else []
    out = [_text("Surface", HEADING), _text(s["about"], SMALL), *steps]
    if s["problem"]:
        out.append(_text(s["problem"], SMALL))
    if s["values"]:
        out.append(_table(("", "value, with its 95 % interval", ""), s["values"], (0.2, 0.32, 0.48)))
    m = s["model"]
    if m is None:
        return out
    f, u = m["figures"], f" {content['unit']}" if content["unit"] else ""
    told = (
        f"{m['name']}, {m['placed']}. The surface's {f['points'] - f['alone']:,} vertices lie {f['median']:+.4f}{u} "
        f"over the model in the median, {f['median_abs']:.4f}{u} without the sign, 95 % within {f['p95_abs']:.4f}{u}; "
        f"{f['alone']:,} have no counterpart within {f['reach']:.3g}{u}."
    )
    rows = [(f"{t:g}{u}", f"{100 * share:.2f} %") for t, share in m["within"]]
    edges = np.linspace(-m["range"], m["range"], len(m["counts"]) + 1).tolist()
    wide = WIDTH / 2 - 2 * mm
    pictures = [Image(io.BytesIO(png), wide, wide * 620 / 900) for _, png in m["pictures"]]
    return [
        *out, PageBreak(), _text("Surface beside a model", HEADING), _text(told),
        Table([pictures, [_text(w, SMALL_QUIET) for w, _ in m["pictures"]]], [WIDTH / 2] * 2),
        _text(f"Orange: outside of the model, blue: inside, from {m['range']:.3g}{u} on each side.", SMALL_QUIET),
        bars(edges, m["counts"], f"distance to the model ({content['unit'] or 'unscaled'})", WIDTH - 4 * mm),
        _table(("within", "share of what was compared"), rows, (0.3, 0.7)),
    ]  # fmt: skip


def _plots(content):
    """Histograms of the residuals and of how many photos see a point."""
    top, counts = content["residual_top"], content["residuals"]
    photos, seen = content["coverage"]
    plots = [
        bars(np.linspace(0, top, len(counts) + 1).tolist(), counts, "residual of a sighting (px)"),
        bars([e - 0.5 for e in [*photos, photos[-1] + 1]], seen, "photos that see a tie point"),
    ]
    return [KeepTogether([_text("Residuals and coverage", HEADING), Table([plots], [WIDTH / 2] * 2)])]


def _marks(content):
    if not content["marks"]:
        return []
    rows = [(n, f"{k}", "-" if r is None else f"{r:.2f}") for n, k, r in content["marks"]]
    table = _table(("point", "photos", "residual (px)"), rows, (0.6, 0.2, 0.2), (1, 2))
    return [_text("Marked points", HEADING), table]


def _photos(content):
    """Each photo, and how well its pose is known."""
    joined, unit = content["joined"], content["unit"]
    rows = [
        (n, *([at] if joined else []), f"{s:,}", "-" if r is None else f"{r:.2f}",
         "-" if c is None else f"{100 * c:.0f} %", "-" if turn is None else f"{turn:.4f}",
         "-" if place is None else f"{place:.4g}")
        for n, at, s, r, c, turn, place in content["photos"]
    ]  # fmt: skip
    heads = ("photo", *(["sitting"] if joined else []), "sightings", "residual (px)", "covered", "turn ± (°)",
             f"place ± ({unit or 'unscaled'})")  # fmt: skip
    widths = (0.22, 0.18, 0.1, 0.12, 0.1, 0.12, 0.16) if joined else (0.32, 0.13, 0.14, 0.12, 0.13, 0.16)
    told = "Standard deviations (one sigma, of one axis) in the frame that the photos hold together themselves."
    table = _table(heads, rows, widths, tuple(range(1 + joined, len(heads))))
    return [_text("Photos", HEADING), table, _text(told, SMALL_QUIET)]


def _ledger(content):
    heads = ("when", "step", "time", "outcome", "version", "settings")
    return [_text("What ran", HEADING), _table(heads, content["ledger"], (0.15, 0.13, 0.07, 0.2, 0.07, 0.38))]


def story(content):
    """What the report is made of, page after page, as flowing parts of the PDF library."""
    return [
        *_head(content), *_length_error(content), *_facts(content), PageBreak(), *_scale_lengths(content),
        *_check_lengths(content), *_known_points(content), *_measurements(content), *_surface(content),
        *_plots(content), *_marks(content), *_lenses(content["lenses"]), *_photos(content), *_ledger(content),
    ]  # fmt: skip


def write_report(path, content, gate=CLOSED):
    """Write the accuracy report; `content` is what `actions.reporting.report_content` gives."""
    with written_aside(path, gate) as temporary:
        doc = SimpleDocTemplate(
            str(temporary), pagesize=A4, leftMargin=18 * mm, rightMargin=18 * mm, topMargin=16 * mm,
            bottomMargin=18 * mm, title=f"Accuracy report: {content['job']}, {content['sitting']}", author="Umbrate",
        )  # fmt: skip
        doc.build(story(content), onFirstPage=_foot(content), onLaterPages=_foot(content))
