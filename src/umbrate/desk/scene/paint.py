"""What the scene draws over its points: the keep box, photos, marks, measurements, a caption, a legend."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from ...core.cloud.keepbox import BOX_EDGES
from ...core.geometry.similarity import scale_of
from ...core.raster.coloring import COVERAGE
from .. import over as t
from ..annotations import (
    paint_first,
    paint_legend,
    paint_lengths,
    paint_marks,
    paint_measures,
    paint_places,
    paint_shell,
)
from ..text import local
from .frusta import paint_turntable
from .tools import BOX, TURN

LEGEND_HEIGHT = 56


def paint_empty(p, rect, session=None):
    """What stands there before anything is solved."""
    mid = rect.adjusted(52, 40, -52, 0)  # clear of the tools
    p.setPen(t.color(t.TEXT))
    p.setFont(t.font(t.HEADING))
    half = mid.height() // 2
    row = bool(session and session.sitting and session.sitting.members)
    coming = bool(session and session.joining.coming)
    p.drawText(
        mid.adjusted(0, 0, 0, -half),
        Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignBottom,
        "Laying the sittings over each other …" if coming else "Not joined yet" if row else "Nothing solved yet",
    )
    if coming:
        return
    p.setFont(t.font())
    p.setPen(t.color(t.QUIET))
    told = "Choose Poses on the Board and press Run: the photos will stand up here."
    if row:
        told = "Choose Join on the Board and press Run: the sittings will lie over each other here."
    p.drawText(mid.adjusted(0, half + 8, 0, 0), Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap, told)


def paint_over(p, scene):
    """All that lies on top of the points, but for what follows the pointer."""
    scene.through.paint(p, scene.eye, scene.width(), scene.height())
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    shell = None if scene.live is not None or scene.drawn.is_dense or scene.is_solid else scene.session.shooting.shell
    if shell is not None:
        paint_shell(p, shell.points, shell.faces, shell.lacking, scene.eye, scene.width(), scene.height())
    box = scene.handles.box or scene.keep_box()
    if box and scene.toggles["Keep box"].isChecked() and scene.live is None:
        uvz = scene.eye.project(box.corners(), scene.width(), scene.height())
        p.setPen(QPen(t.color(t.CATEGORIES[1], 150), 1))
        for a, b in BOX_EDGES:
            if uvz[a, 2] > 0 and uvz[b, 2] > 0:
                p.drawLine(QPointF(*uvz[a, :2]), QPointF(*uvz[b, :2]))
        if scene.mode == BOX:
            scene.handles.paint(p, box, scene.eye, scene.width(), scene.height())
    if scene.toggles["Photos"].isChecked() and scene.through.photo_id is None:
        found = _turntable(scene)
        if found:
            paint_turntable(p, found, scene.eye, scene.width(), scene.height())
        slipped = {i for i, _ in found.slips} if found else ()
        scene.frusta.paint(
            p, scene.live or scene.block, scene.eye, scene.width(), scene.height(), scene.pointer.over_photo, slipped
        )
        if scene.session.fragment == 0:
            paint_first(p, scene.session.shooting.first, scene.frusta.length(), scene.on_screen)
    if scene.ray is not None:
        a, d = scene.ray
        far = scale_of(scene.session.frame.matrix) if scene.session.frame and scene.session.fragment == 0 else 1.0
        uvz = scene.eye.project(np.array([a + 0.02 * far * d, a + 2.2 * far * d]), scene.width(), scene.height())
        if (uvz[:, 2] > 0).all():
            p.setPen(QPen(t.color(t.ACCENT), 1.2))
            p.drawLine(QPointF(*uvz[0, :2]), QPointF(*uvz[1, :2]))
    if scene.toggles["Marks"].isChecked() and scene.live is None and scene.session.fragment == 0:
        _paint_marks(p, scene)
    if scene.mode == TURN and scene.points is not None and len(scene.points):
        scene.rings.paint(p, scene.eye, scene.width(), scene.height())
    if scene.slab.isVisible():
        scene.slab.paint(p)
    cleaning = scene.session.cleaning
    sparse = None if scene.is_solid or scene.is_overlay else scene.session.points
    cover = cleaning if scene.is_cloud else sparse
    if cover is not None and cover.look in COVERAGE and cover.covered:
        found = cover.covered[1]
        paint_places(p, found.places, cover.place, scene.frusta.length(), found.lens, scene.on_screen)
    shown = None if scene.live is not None or scene.points is None else scene.session.points.legend()
    apart = scene.session.joining.legend() if scene.is_overlay else None
    solid = scene.session.surfacing
    legend = apart if scene.is_overlay else cleaning.legend() if scene.is_cloud else shown
    legend = solid.legend() if scene.is_surface else None if scene.drawn.textured is not None else legend
    _paint_caption(p, scene, legend)
    if legend:
        signed = bool(apart) or (scene.is_cloud and cleaning.look == "compared") or (scene.is_surface and solid.signed)
        paint_legend(p, *legend, signed, scene.width(), scene.height())
    elif scene.is_overlay and scene.points is not None:
        _paint_members(p, scene)


def _paint_members(p, scene):
    """Which tint is which sitting, at the lower right."""
    work = scene.session.joining
    if work.look != "tints":
        return
    p.setFont(t.font(t.SMALL))
    parts = work.shown(scene.drawn.is_dense)
    for k, part in enumerate(parts):
        top = scene.height() - 20 - 18 * (len(parts) - k)
        p.fillRect(QRectF(scene.width() - 150, top + 3, 10, 10), t.color(work.tint(part.id)))
        p.setPen(t.color(t.TEXT))
        p.drawText(QRectF(scene.width() - 134, top, 128, 16), Qt.AlignmentFlag.AlignVCenter, part.name)


def _turntable(scene):
    """The turntable found in the poses, where the block shown is the sitting's own."""
    s = scene.session
    return s.turntable if s.job and scene.live is None and s.fragment == 0 else None


def _paint_marks(p, scene):
    work = scene.session.marking
    paint_lengths(p, scene.session.measuring.lengths(), scene.on_screen)
    paint_measures(p, scene.session.measuring.shown(), scene.on_screen)
    if work.marking is None or work.marking.block is None:
        return
    points, lines, faces = work.drawn()
    marks = [(name, X, i == work.active_id) for name, X, i in points]
    paint_marks(p, marks, lines, faces, scene.on_screen)


def _paint_caption(p, scene, legend):
    if scene.live is not None:
        text = f"{len(scene.live.poses)} photos stand, {len(scene.points):,} tie points"
    elif scene.points is not None:
        unit = scene.session.frame.unit if scene.session.frame and scene.session.fragment == 0 else ""
        kind = "points" if scene.is_cloud or scene.drawn.is_dense else "tie points"
        count = len(scene.drawn.faces if scene.is_solid else scene.points)
        kind = "triangles" if scene.is_solid else kind
        text = f"{count:,} {kind}, {unit or 'unscaled'}"
        if scene.drawn.textured is not None:
            text += f", texture of {scene.drawn.textured.pages.side:,}²"
        if not scene.is_cloud and not scene.is_solid and not scene.is_overlay and scene.session.points.count():
            text = f"{scene.session.points.count():,} chosen of {text}"
        if scene.canvas.moving and not scene.is_solid and scene.canvas.budget < len(scene.points):
            text += f"  (drawing {scene.canvas.budget:,} while it moves)"
    else:
        text = ""
    if scene.session.cloud_coming and scene.toggles["Cloud"].isChecked() and scene.live is None:
        text = f"Reading the cloud …  {text}"
    if scene.session.surfacing.coming and scene.toggles["Surface"].isChecked() and scene.live is None:
        text = f"Reading the surface …  {text}"
    if scene.session.texturing.coming and scene.toggles["Surface"].isChecked() and scene.live is None:
        text = f"Reading the texture …  {text}"
    color, work = t.QUIET, scene.session.mending if scene.is_surface else scene.session.cleaning
    if (scene.is_cloud or scene.is_surface) and work.step is not None and work.told():
        text, color = work.told() + ("" if work.busy else "  Del applies, Esc drops it"), t.ACCENT
    p.setFont(t.font(t.SMALL))
    p.setPen(t.color(color))
    # a trial's sentence goes over the scale of colors, where there is one
    over = LEGEND_HEIGHT if color == t.ACCENT and legend else 0
    left = scene.side.width() + 8
    place = QRectF(left, scene.height() - 60 - over, scene.width() - left - 12, 54)
    wrapped = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom | Qt.TextFlag.TextWordWrap
    p.drawText(place, wrapped, local(text))
