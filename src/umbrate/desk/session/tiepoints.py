"""Work on tie points: choosing, sifting, removing, and tracing between points and photos.

Part of the session, as the work on masks is: widgets ask it and listen to it.
"""

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ...actions.coverage import gather_tie_points, tie_point_rows
from ...actions.sifting import points_left, remove_points
from ...core.poses.sift import BY_NAME, measure
from ...core.raster.coloring import COLORINGS, COVERAGE, usual_range
from ...core.raster.ramps import ramp_colors
from ..text import counted
from .covering import Covering

NOT_LOOKED_AT = 90  #: gray of tie points that are not on the object
REPLACE, ADD, TAKE = "replace", "add", "take"


class PointWork(QObject, Covering):
    """Which tie points of the chosen sitting are chosen, and what is done with them."""

    PLAIN = None  #: the look of their own colors

    changed = pyqtSignal()  #: other points are chosen
    traced = pyqtSignal(object)  #: ids of the photos that see the chosen points, for the strip and the scene

    def __init__(self, session):
        super().__init__()
        self.session = session
        self._chosen = None
        self.photos = frozenset()  #: of the last trace
        self._mark, self._left = (None, None), None
        self._measures = {}
        self.look = None  #: the measure or the coverage that tie points are colored by
        self.begin_covering()

    def _block(self):
        """The block, with what was chosen and measured dropped where it is another one."""
        s = self.session
        block = s.block if s.job else None
        # the block itself is kept, not its address: another one may come to lie there
        mark = (block, s.job.removed(s.sitting_id)) if block is not None else (None, None)
        if mark[0] is not self._mark[0] or mark[1] != self._mark[1]:
            if mark[0] is not self._mark[0]:
                self._measures = {}
            self._mark, self._chosen, self.photos = mark, None, frozenset()
            self._left = points_left(s.job, s.sitting, block) if block is not None else None
        if self.forget_covered():
            self.look = None if self.look in COVERAGE else self.look
        return block

    def key(self):
        """What coverage of the tie points depends on; None where there are none of the block itself."""
        s = self.session
        done = s.result("poses") if s.job and s.sitting_id else None
        if done is None or s.fragment:
            return None
        return s.sitting_id, done.id, s.job.removed(s.sitting_id), s.frame_key, str(s.keep_box)

    def gatherer(self):
        sitting = self.session.sitting
        return lambda job: gather_tie_points(job, sitting)

    @property
    def left(self):
        """Which tie points have not been removed, (p,) bool, or None."""
        self._block()
        return self._left

    @property
    def chosen(self):
        """Which tie points are chosen, (p,) bool, or None where there is no block."""
        block = self._block()
        if block is None:
            return None
        return self._chosen if self._chosen is not None else np.zeros(len(block.points), bool)

    def count(self):
        """How many are chosen."""
        chosen = self.chosen
        return 0 if chosen is None else int(chosen.sum())

    def choose(self, points, how=REPLACE):
        """Choose points (p,) bool, add them to what is chosen, or take them off it."""
        before = self.chosen
        if before is None:
            return
        points = points & self._left
        self._chosen = points if how == REPLACE else (before | points if how == ADD else before & ~points)
        self.changed.emit()

    def clear(self):
        """Choose none, and forget the last trace."""
        self._chosen = None
        self.photos = frozenset()
        self.changed.emit()
        self.traced.emit(self.photos)

    def measured(self, name):
        """A measure (p,) of all tie points, computed once a block."""
        block = self._block()
        if name == "outside":  # the box may have moved
            return measure(name, block, self.session.keep_box)
        if name not in self._measures:
            self._measures[name] = measure(name, block)
        return self._measures[name]

    def set_look(self, name):
        """Color the tie points by a measure; None gives their own colors back."""
        self.look = name
        self.changed.emit()

    def legend(self):
        """The range (low, high), unit and name of the measure they are colored by, or None."""
        if self.left is None or self.look is None or not self.left.any():
            return None
        if self.look in COVERAGE:
            return self._covered_legend()
        m = BY_NAME[self.look]
        low, high = (float(x) for x in np.percentile(self.measured(self.look)[self.left], (1, 99)))
        return low, max(high, low + 1e-9), m.unit, m.title

    def colors(self):
        """Colors (p, 3) uint8 of all tie points as they are looked at."""
        legend = self.legend()
        if legend and self.look in COVERAGE:
            return self._covered_colors(legend)
        return ramp_colors(self.measured(self.look), *legend[:2]) if legend else self._block().colors

    def _covered_legend(self):
        values = self._covered_values()
        span = usual_range(self.look, values) if values is not None else None
        if span is None:
            return None
        look, frame = COLORINGS[self.look], self.session.frame
        return *span, (frame.unit if frame else "") if look.unit == "length" else look.unit, look.title

    def _covered_values(self):
        if self.covered is None:
            return None
        return getattr(self.covered[1].coverage, COLORINGS[self.look].array).astype(np.float32)

    def _covered_colors(self, legend):
        """Those that coverage looked at in the colors of the ramp, others in gray."""
        s, block, values = self.session, self._block(), self._covered_values()
        rows = tie_point_rows(s.job, s.sitting, block)
        out = np.full((len(block.points), 3), NOT_LOOKED_AT, np.uint8)
        if len(rows) == len(values):
            out[rows] = ramp_colors(values, *legend[:2])
        return out

    def remove(self):
        """Take the chosen points out of the block."""
        s, block = self.session, self._block()
        if block is None or not self.count() or not s.may_write():
            return
        count = s.do(lambda: remove_points(s.job, s.sitting, block, self.chosen))
        if count:
            s.said.emit(
                f"{counted(count, 'tie point')} removed; the poses stand as they were until you adjust. Undo brings "
                "them back.",
                "good",
            )

    def trace_to_photos(self):
        """Show which photos see the chosen points."""
        block = self._block()
        if block is None or not self.count():
            return
        rows = self.chosen[block.point]
        share = np.bincount(block.photo[rows], minlength=len(block.photo_ids))
        self.photos = frozenset(int(block.photo_ids[k]) for k in np.flatnonzero(share))
        self.traced.emit(self.photos)
        self.changed.emit()
        told = (
            f"{counted(self.count(), 'chosen point')} seen by {counted(len(self.photos), 'photo')}, ringed in the strip"
        )
        self.session.said.emit(f"{told} and in the scene.", "note")

    def trace_to_points(self, photo_ids):
        """Choose the points that some photos see."""
        block = self._block()
        if block is None or not photo_ids:
            return
        rows = np.isin(block.photo_ids[block.photo], sorted(photo_ids))
        seen = np.zeros(len(block.points), bool)
        seen[block.point[rows]] = True
        self.choose(seen)
        self.photos = frozenset(photo_ids)
        self.traced.emit(self.photos)
        told = f"{counted(len(photo_ids), 'photo')} see{'s' * (len(photo_ids) == 1)} {counted(self.count(), 'point')}"
        self.session.said.emit(f"{told}, chosen in the scene.", "note")
