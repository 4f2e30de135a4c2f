"""A step on trial: what it would do is computed beside the window and shown, then it is applied or left.

What clouds and surfaces have in common. Part of the session: the bench asks, the scene draws.
"""

from PyQt6.QtCore import QObject, pyqtSignal

from ...core.errors import UmbrateError
from ..text import counted


class Trying(QObject):
    """Steps on the chosen one of what stands side by side.

    A subclass says which that is (`kept`, `key`), how it is changed (`stepwise`), and what is to be seen of a step.

    Attributes
    ----------
    step : dict or None
        On trial.
    busy : bool
        Whether what it would do is being computed.
    computing : bool
        Whether steps are done again.
    """

    changed = pyqtSignal()  #: another trial, or something else to be seen
    WORD, UNIT, SERIES = "", "", ""

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.step = None
        self.busy = self.computing = False
        self._raw, self._answer, self._then_apply = None, None, False

    # ------------------------------------------------------------------ what a subclass says
    stepwise = None

    @property
    def kept(self):
        """The chosen one, or None."""
        raise NotImplementedError

    def key(self):
        """What the one that is shown depends on."""
        raise NotImplementedError

    def context(self, step):
        """What the step needs besides the arrays."""
        raise NotImplementedError

    def attempt(self, arrays, step, context):
        """What a step gives, in any thread."""
        raise NotImplementedError

    def examine(self, arrays, answer, context):
        """What is to be seen of it, in any thread."""
        raise NotImplementedError

    def see(self, found):
        """Show what `examine` gave; None: nothing is on trial."""
        raise NotImplementedError

    def list_now(self):
        """All of the chosen sitting, as they are in the job now."""
        raise NotImplementedError

    # ------------------------------------------------------------------ trying
    def end_trial(self):
        """Nothing is on trial any more."""
        self.step = self._answer = None
        self.busy = self._then_apply = False
        self.see(None)

    def try_on(self, step):
        """See what a step would do; None ends the trial."""
        s = self.session
        if step is None or self.kept is None:
            self.end_trial()
            self.changed.emit()
            return
        try:
            step = self.stepwise.book.frozen(s.job, s.sitting, step)
            context = self.context(step)
        except UmbrateError as e:
            s.said.emit(str(e), "bad")
            return
        key, kept, job = self.key(), self.kept, s.job
        held = self._raw[1] if self._raw and self._raw[0] == key else None
        self.step, self.busy, self._answer, self._then_apply = step, True, None, False
        self.changed.emit()

        def work():
            arrays = self.stepwise.load(job, kept) if held is None else held
            answer = self.attempt(arrays, step, context)
            return step, arrays, answer, self.examine(arrays, answer, context)

        def show(found):
            tried, arrays, answer, seen = found
            if tried is not self.step:
                return  # another one was asked for since
            self._raw, self.busy = (key, arrays), False
            self._answer = key, answer
            self.see(seen)
            self.changed.emit()
            if self._then_apply:
                self.apply()

        def fail(sentence):
            if step is self.step:
                self.end_trial()
            s.said.emit(sentence, "bad")
            self.changed.emit()

        s.in_background(work, show, fail, series=self.SERIES)

    def forget_raw(self):
        """Another one is chosen: what was read of the one before is let go."""
        self._raw = None

    def gone_text(self, count):
        """How much a step took away, or added, in words."""
        return f"{counted(count, self.UNIT)} gone" if count >= 0 else f"{counted(-count, self.UNIT)} more"

    def apply(self):
        """Keep what is on trial as a step; where it is still looked at, as soon as that is done."""
        s, step, kept = self.session, self.step, self.kept
        if step is None or kept is None or not s.may_write():
            return
        if self.busy:
            self._then_apply = True
            return
        answer = self._answer[1] if self._answer and self._answer[0] == self.key() else None
        self.end_trial()
        self.keep_step(kept, step, answer)

    def keep_step(self, kept, step, answer):
        """Keep a step that was tried."""
        s = self.session
        self.say_kept(step, s.do(lambda: self.stepwise.apply_step(s.job, s.sitting, kept, step, answer)))

    def say_kept(self, step, removed):
        """Say what a step took away; None: it went wrong."""
        s = self.session
        if removed is not None:
            text = self.stepwise.book.text(step, s.frame.unit if s.frame else "")
            s.said.emit(f"{text}: {self.gone_text(removed)}. Undo takes that back.", "good")

    def apply_all(self, steps):
        """Do several steps, or those of a file."""
        s, kept, sitting = self.session, self.kept, self.session.sitting
        if kept is None or not s.may_write():
            return
        way = self.stepwise
        self._compute(
            lambda job: way.with_steps(job, sitting, kept, way.book.read(steps) if isinstance(steps, str) else steps),
            lambda gone: s.said.emit(f"{self.gone_text(gone)}. Undo takes that back.", "good"),
        )

    def take_back(self, index):
        """Take one step back; those after it are done again."""
        s, kept, sitting = self.session, self.kept, self.session.sitting
        if kept and index < len(kept.steps) and s.may_write():
            self._compute(lambda job: self.stepwise.without_step(job, sitting, kept, index), lambda gone: None)

    def _compute(self, make, then):
        """Have ``make(job)`` compute a Changed of the chosen one beside the window, keep it, and ``then(gone)``."""
        s, kept = self.session, self.kept
        if self.computing:
            return  # what was asked for before is not there yet, and this would build on it
        self.end_trial()
        self.computing = True
        self.changed.emit()

        def keep(made):
            if self.is_as_it_was(kept):
                gone = s.do(lambda: self.stepwise.keep(s.job, kept, made))
                if gone is not None:
                    then(gone)

        s.in_saved_job(make, keep, self.failed)

    def is_as_it_was(self, kept):
        """Whether one is as it was when something was asked for that is computed now; says so where it is not."""
        self.computing = False
        now = next((c for c in self.list_now() if c.id == kept.id), None)
        if now is not None and now.steps == kept.steps:
            return True
        self.failed(f"The {self.WORD} was changed meanwhile: nothing was done to it.", "note")
        return False

    def failed(self, sentence, kind="bad"):
        """What was computed came to nothing."""
        self.computing = False
        self.session.said.emit(sentence, kind)
        self.changed.emit()

    # ------------------------------------------------------------------ what is drawn in the scene
    def draw(self, eye, polygon, width, height):
        """Try what was drawn in the scene: what is inside a polygon."""
        keep = bool(self.step and self.step["filter"] == "lasso" and self.step.get("keep"))
        self.try_on(
            {
                "filter": "lasso", "keep": keep, "view": eye.matrix.tolist(), "f": float(eye.f),
                "middle": [width / 2, height / 2], "polygon": [[float(x), float(y)] for x, y in polygon],
            }
        )  # fmt: skip

    def paint(self, eye, path, radius, width, height):
        """Try what was painted over in the scene, added to what was painted before where that is on trial still."""
        before = self.step if self.step and self.step["filter"] == "brush" else {}
        same = before.get("view") == eye.matrix.tolist()
        front = [*eye.pose[2, :3], eye.pose[2, 3]]
        path = [[float(x), float(y)] for x, y in path]
        self.try_on(
            {
                "filter": "brush", "keep": bool(before.get("keep")), "view": eye.matrix.tolist(), "f": float(eye.f),
                "front": [float(x) for x in front], "middle": [width / 2, height / 2], "radius": float(radius),
                "strokes": [*(before["strokes"] if same else []), path],
            }
        )  # fmt: skip

    def cut(self, slab):
        """Try taking away what a slab holds."""
        self.try_on({"filter": "slab", "normal": list(slab.normal), "low": slab.low, "high": slab.high})
