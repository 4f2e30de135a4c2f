"""The queue: cells to run one after another, each saved when it is done."""

import logging
import time
from dataclasses import dataclass

from ..actions.measuring import refresh_all
from ..core.errors import UmbrateError
from ..stages import BY_NAME, STAGES
from ..stages.base import settings_of
from .serial import Running, Serial
from .serve import run_stage
from .state import current_fingerprint, is_invited, would_be_the_same
from .worker import Event

log = logging.getLogger(__name__)


@dataclass
class Running(Running):
    """The stage that runs now."""

    sitting: object = None
    stage: str = ""
    settings: object = None
    mode: str = ""
    fingerprint: str = ""

    @property
    def title(self):
        """What runs, in a few words."""
        return f"{BY_NAME[self.stage].title}, {self.sitting.name}"


@dataclass(frozen=True)
class Failure:
    """Why a cell's last run left no result, and what would mend it (see `UmbrateError`)."""

    message: str
    remedy: tuple | None = None


class Queue(Serial):
    """Runs cells of one job through one worker. Call `poll` often; it returns what happened.

    Events carry ``sitting`` (id) and ``stage`` in their data, besides what the worker said. The kind
    ``started`` is added.

    cluster : address of a scheduler whose workers help
    measures : whether measurements are computed anew here when a run is done; else who polls does it
    """

    def __init__(self, job, worker=None, measures=True, cluster=""):
        super().__init__(worker)
        self.cluster = cluster
        self.job, self.measures = job, measures
        self.failures = {}
        self.modes = {}
        self.ran = []  # cells, in the order they were first done

    def add(self, sitting, stages, mode=""):
        """Queue stages of a sitting, in order; what waits already is not queued twice.

        mode : one of the last stage's `modes`; the usual way where not given
        """
        for name in stages:
            if (sitting.id, name) not in self.waiting:
                self.waiting.append((sitting.id, name))
            self.modes.pop((sitting.id, name), None)
        if mode and stages:
            self.modes[sitting.id, stages[-1]] = mode

    def add_all(self, cells, mode=""):
        """Queue (sitting, stages) of several sittings: what tells others of what it found is done in all of them first.

        mode : as of `add`
        """
        for sitting, names in cells:
            last = max((k for k, n in enumerate(names) if BY_NAME[n].tells_others), default=-1)
            if not sitting.members:
                self.add(sitting, names[: last + 1])
        for sitting, names in cells:
            self.add(sitting, names, mode)

    def _start_next(self):
        sitting_id, name = self.waiting.pop(0)
        sitting = next((s for s in self.job.sittings() if s.id == sitting_id), None)
        if sitting is None:
            return []
        stage = BY_NAME[name]
        # what failed in another sitting is not tried again and again: this stage says itself what it lacks
        first = next(
            (
                (s, n)
                for s, n in stage.takes_of(self.job, sitting)
                if self._wanted(s, n) and (s.id == sitting_id or (s.id, n) not in self.failures)
            ),
            None,
        )
        if first:
            self.waiting.insert(0, (sitting_id, name))
            sitting, name = first
            stage = BY_NAME[name]
            sitting_id = sitting.id
        self.failures.pop((sitting_id, name), None)
        try:
            settings = settings_of(self.job, sitting, stage)
            mark = current_fingerprint(self.job, sitting, stage, settings)
            mode = self.modes.pop((sitting_id, name), "")
            inputs = stage.gather(self.job, sitting, settings, mode)
        except UmbrateError as e:
            return [self._failed(sitting, name, {}, 0.0, "failed", str(e), e.remedy)]
        self.running = Running(
            time.monotonic(), sitting=sitting, stage=name, settings=settings, mode=mode, fingerprint=mark
        )
        self.worker.submit(run_stage, name, inputs, settings.model_dump(), self.cluster)
        return [Event("started", {"sitting": sitting_id, "stage": name})]

    def _wanted(self, sitting, name):
        """Whether a stage that another profits from has something to do, and running it would make something else.

        Where what it reads is stale and is not run now, it stays stale however often it is run.
        """
        return is_invited(self.job, sitting, name) and not would_be_the_same(self.job, sitting, BY_NAME[name])

    def _failed(self, sitting, stage, settings, seconds, kind, message, remedy=None):
        if kind != "cancelled":
            self.failures[sitting.id, stage] = Failure(message, remedy)
            # what was to come of this sitting needs what failed
            self.waiting = [w for w in self.waiting if w[0] != sitting.id]
        try:
            self.job.record_failure(sitting.id, stage, settings, seconds, kind, message)
        except UmbrateError as e:
            message = f"{message} The ledger could not be written either: {e}"
        return Event(kind, {"sitting": sitting.id, "stage": stage, "message": message})

    def poll(self, timeout=0.0):
        """Start what can start, commit what is done; returns events."""
        events = []
        if self.running is None and self.waiting:
            events += self._start_next()
        run = self.running
        if run is None:
            return events
        for e in self.worker.poll(timeout):
            here = {"sitting": run.sitting.id, "stage": run.stage, **{k: v for k, v in e.data.items() if k != "value"}}
            if e.kind == "progress":
                run.follow(e.data)
                events.append(Event("progress", here))
            elif e.kind == "live":
                events.append(Event("live", here))
            else:
                self.running = None
                settings = run.settings.model_dump(mode="json")
                if e.data.get("traceback"):
                    log.error("%s", e.data["traceback"])
                events.append(self._ended(run, settings, e, here))
        return events

    def _ended(self, run, settings, event, here):
        """Commit a finished run, or record why there is nothing to commit; returns the event to hand on."""
        data = event.data
        if event.kind != "done":
            message, remedy = data["message"], data.get("remedy")
            return self._failed(run.sitting, run.stage, settings, run.seconds, event.kind, message, remedy)
        done = data["value"]
        try:
            self.job.commit_result(
                run.sitting.id, run.stage, run.fingerprint, settings, done.figures, done.problems, done.artefacts,
                run.seconds, done.seen, BY_NAME[run.stage].keeps,
            )  # fmt: skip
        except Exception as error:
            if not isinstance(error, UmbrateError | OSError):
                log.exception("a result could not be saved")
            message = f"The result could not be saved: {error}"
            return self._failed(run.sitting, run.stage, settings, run.seconds, "failed", message, ("run again",))
        self._tell_others(run)
        try:
            changes = refresh_all(self.job).get(run.sitting.id, []) if self.measures else []
        except Exception:
            log.exception("measurements could not be computed anew")
            changes = []
        return Event("done", {**here, "figures": done.figures, "measured": changes})

    def _tell_others(self, run):
        """Queue what ran here before, and profits from what has just been found, once more: it takes seconds.

        Where more was made from it already, that stays as it is: it is stale, and people decide.
        """
        cell = run.sitting.id, run.stage
        if BY_NAME[run.stage].tells_others:
            later = [s.name for s in STAGES[STAGES.index(BY_NAME[run.stage]) + 1 :]]
            sittings = {s.id: s for s in self.job.photo_sittings()}
            for sid, name in self.ran:
                made = any(self.job.result(sid, n) for n in later)
                if name == run.stage and sid in sittings and sid != cell[0] and not made:
                    if self._wanted(sittings[sid], name) and (sid, name) not in self.waiting:
                        self.waiting.insert(0, (sid, name))
        if cell not in self.ran:
            self.ran.append(cell)

    def close(self):
        """End the worker."""
        self.waiting.clear()
        self.worker.close()
