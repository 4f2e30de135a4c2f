"""A stage run at once, in this process: for commands that wait for it anyway, and for tests and benches."""

import time

from ..stages import BY_NAME
from ..stages.base import Report, settings_of
from . import wiring  # noqa: F401
from .state import current_fingerprint


def run_now(job, sitting, name, settings=None, report=None, mode=""):
    """Run a stage of a sitting and keep its result; returns the Outcome.

    settings : those chosen in the job where not given

    Raises
    ------
    UmbrateError
        Where the stage cannot be run; nothing is kept then.
    """
    stage, start = BY_NAME[name], time.monotonic()
    settings = settings or settings_of(job, sitting, stage)
    mark = current_fingerprint(job, sitting, stage, settings)
    done = stage.run(stage.gather(job, sitting, settings, mode), settings, report or Report())
    job.commit_result(
        sitting.id, name, mark, settings.model_dump(mode="json"), done.figures, done.problems, done.artefacts,
        time.monotonic() - start, done.seen, stage.keeps,
    )  # fmt: skip
    return done
