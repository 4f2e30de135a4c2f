"""Work on measurements: which kind is being measured, which ends are chosen, and the values there are.

Part of the session; the scene and the photo view hand in ends, the bench lists values.
"""

from functools import partial

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ...actions.measuring import Measurer, due, keep_values, measure_each, measured_from, plain_spot
from ...core.errors import UmbrateError
from ...core.measure.quantities import BY_NAME
from ...sitting.frames import scale_result
from ...stages.base import Shown


class MeasureWork(QObject):
    """Measurements of the chosen sitting."""

    changed = pyqtSignal()  #: other measurements, values, or ends

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.kind = None  #: what is being measured, or None
        self.ends = []
        self.waiting = None  #: callable(end) that wants the next end that is picked
        self.wanted = ""  #: what it is wanted for
        self.chosen_id = None
        self.busy = False  #: a measurement that was asked for is being computed
        self._values = {}  #: by sitting id, those computed since the job was opened
        self._sitting = self._measurer = self._mark = self._shown = self._lengths = None
        session.job_changed.connect(self._other_job)
        session.document_changed.connect(self._forget)
        session.chosen_changed.connect(self._chosen)
        self.changed.connect(self._redraw)

    def _other_job(self):
        self._values.clear()
        self.busy = False

    def _redraw(self):
        self._shown = self._lengths = None

    def _forget(self):
        self._mark = None
        self.changed.emit()

    def _chosen(self):
        if self._sitting != self.session.sitting_id:
            self._sitting = self.session.sitting_id
            self.begin(None)

    @property
    def picking(self):
        """Whether a click picks an end."""
        return self.kind is not None or self.waiting is not None

    def _now(self):
        """What values depend on; looked up once for each change of the document."""
        s = self.session
        if self._mark is not None and self._mark[0] == s.sitting_id:
            return self._mark
        names = ("poses", "scale", "cloud")
        self._mark = (
            s.sitting_id, *(r.id if (r := s.result(n)) else 0 for n in names), str(s.job.level(s.sitting_id)),
            str(s.job.measurements(s.sitting_id)), str(s.job.marked_points(s.sitting_id)),
        )  # fmt: skip
        return self._mark

    # ------------------------------------------------------------------ values
    @property
    def values(self):
        """Values of the measurements by id, as they were last computed; `changed` says when there are newer ones."""
        s = self.session
        if s.sitting is None:
            return {}
        have = self._values.get(s.sitting_id)
        if have is None:
            have = s.job.measured(s.sitting_id)
        return {m.id: have[m.id] for m in s.job.measurements(s.sitting_id) if m.id in have}

    def follow(self):
        """Compute what may have moved, of any sitting; the ledger keeps what did.

        Beside the window: ends that lie on the cloud have it read.
        """
        s = self.session
        if s.job is None or not (wanted := due(s.job)):
            return
        sittings = [sitting for sitting, _ in wanted]
        s.in_saved_job(lambda job: measure_each(job, sittings), partial(self._take, wanted), series="measure")

    def _take(self, wanted, values):
        job = self.session.job
        left = {s.id for s in job.sittings()}
        told = False
        for sitting, of in wanted:
            if sitting.id not in left or measured_from(job, sitting) != of:
                continue  # changed while they were computed: that change asked for them again
            job.measured_from[sitting.id] = of
            self._values[sitting.id] = values[sitting.id]
            told |= bool(job.writable and keep_values(job, sitting, values[sitting.id]))
        if told:
            self.session.document_changed.emit()
        self.changed.emit()

    @property
    def measurer(self):
        """The Measurer of the sitting as it is now, or None."""
        key = self._now()[:5]
        if self._measurer is None or self._measurer[0] != key:
            try:
                self._measurer = key, Measurer(self.session.job, self.session.sitting)
            except UmbrateError:
                self._measurer = key, None
        return self._measurer[1]

    # ------------------------------------------------------------------ choosing ends
    def begin(self, kind):
        """Begin to measure a kind, or end it with None."""
        self.kind, self.ends, self.waiting, self.wanted = kind, [], None, ""
        if kind:
            self.session.marking.on = False
            self.session.marking.changed.emit()
            k = BY_NAME[kind]
            many = f"{k.least}" if k.most == k.least else f"{k.least} or more"
            more = "" if k.most == k.least else ", then Enter"
            self.session.said.emit(
                f"{k.title}: click {many} place{'s' * (k.least > 1 or k.most != 1)} in the scene or the photo{more}. "
                "They snap to targets, marked points and the cloud. Esc ends it.",
                "note",
            )
        self.changed.emit()

    def want(self, what, then):
        """Have `then(end)` called with the next end that is picked."""
        self.begin(None)
        self.waiting, self.wanted = then, what
        self.session.said.emit(f"Click {what} in the scene or the photo. Esc leaves it.", "note")
        self.changed.emit()

    def pick(self, end):
        """An end was clicked: a target's number or a point's name as text, or a place (3,) on the cloud."""
        s = self.session
        if not isinstance(end, str):
            end = plain_spot(s.job, s.sitting, end)
        if self.waiting is not None:
            then, self.waiting, self.wanted = self.waiting, None, ""
            self.changed.emit()
            then(end)
            return
        if self.ends and self.ends[-1] == end:
            return
        self.ends.append(end)
        most = BY_NAME[self.kind].most
        if most and len(self.ends) == most:
            self.finish()
        else:
            self.changed.emit()

    def finish(self):
        """Keep the measurement of the ends that were chosen, once it is computed: what cannot be, says so."""
        s, kind, ends, sitting = self.session, self.kind, list(self.ends), self.session.sitting
        if kind is None or not s.may_write():
            return
        self.ends, self.busy = [], True

        def keep(value):
            self.busy = False
            if all(x.id != sitting.id for x in s.job.sittings()):
                self.changed.emit()  # it was removed meanwhile
                return
            made = s.do(lambda: s.job.add_measurement(sitting.id, kind, ends))
            if made:
                self._values.setdefault(sitting.id, s.job.measured(sitting.id))[made] = value
                self.chosen_id = made
                s.said.emit(f"{BY_NAME[kind].title}: {value['text']} (95 % interval)", "good")
            self.changed.emit()

        def fail(sentence):
            self.busy = False
            s.said.emit(sentence, "bad")
            self.changed.emit()

        s.in_saved_job(lambda job: Measurer(job, sitting).measure(kind, ends), keep, fail)
        self.changed.emit()

    def cancel(self):
        """Leave what was begun: first the ends, then the kind."""
        if self.ends:
            self.ends = []
            self.changed.emit()
        else:
            self.begin(None)

    def remove(self, ids):
        """Forget measurements."""
        s = self.session
        if ids and s.may_write():
            s.do(lambda: s.job.remove_measurements(ids), "Removed. Undo brings it back.")

    def lengths(self):
        """Known lengths, stated or recognized, whose ends have places: (first, second, value in mm, role, (2, 3))."""
        s = self.session
        if s.sitting is None or not s.shows(Shown.LENGTHS):
            return []
        now = self._now(), s.result("scale").id if s.result("scale") else 0
        if self._lengths is None or self._lengths[0] != now:
            stated = [(k.first, k.second, k.value_mm, k.role) for k in s.job.lengths(s.sitting_id)]
            known = {frozenset(x[:2]) for x in stated}
            done = scale_result(s.job, s.sitting)
            of_sheets = [r for r in (done.figures.lengths if done else []) if r.source == "sheet"]
            stated += [
                (r.first, r.second, r.value, r.role) for r in of_sheets if frozenset((r.first, r.second)) not in known
            ]
            places = [[self.place_of(e) for e in x[:2]] for x in stated]
            self._lengths = (
                now,
                [
                    (*x, np.array(ends))
                    for x, ends in zip(stated, places, strict=True)
                    if all(e is not None for e in ends)
                ],
            )
        return self._lengths[1]

    def place_of(self, end):
        """Where an end lies in the job's frame (3,), or None."""
        if isinstance(end, dict):
            if self.session.frame is None:
                return None
            X, M = np.array(end["cloud"], float), self.session.frame.matrix
        elif (m := self.measurer) is None:
            return None
        else:
            try:
                X, M = m.place(end).xyz, m.to_job
            except UmbrateError:
                return None
        return M[:3, :3] @ X + M[:3, 3]

    def shown(self):
        """What is to be drawn: (kind, places (n, 3), text, chosen) of all measurements and of the one being made."""
        s = self.session
        if s.sitting is None:
            return []
        if self._shown is not None and self._shown[0] == self._now():
            return self._shown[1]
        out = []
        for m in s.job.measurements(s.sitting_id):
            v = self.values.get(m.id)
            if v and "places" in v:
                chosen = m.id == self.chosen_id
                # one value at a time: many would cover each other and the object
                text = f"{m.name}  {v['text']}" if chosen and m.kind != "point" else m.name
                out.append((m.kind, np.array(v["places"]), text, chosen))
        places = [X for e in self.ends if (X := self.place_of(e)) is not None]
        if places:
            out.append((self.kind, np.array(places), "", True))
        self._shown = self._now(), out
        return out
