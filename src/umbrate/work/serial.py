"""Serial work: it goes through one worker, one piece after another."""

import time
from dataclasses import dataclass, field

from .worker import Worker


@dataclass
class Running:
    """Something that goes on now: how far it is."""

    started: float = 0.0
    fraction: float = 0.0
    sentence: str = "starting"
    figures: dict = field(default_factory=dict)

    @property
    def seconds(self):
        """How long it has been running."""
        return time.monotonic() - self.started

    @property
    def seconds_left(self):
        """Estimate from the share that is done, or None while it is too early to say."""
        if self.fraction < 0.03 or self.seconds < 1.0:
            return None
        return self.seconds * (1.0 - self.fraction) / self.fraction

    def follow(self, data):
        """Take over what the worker's event ``progress`` says."""
        self.fraction, self.sentence = data["fraction"], data["sentence"]
        self.figures.update(data["figures"])


class Serial:
    """What runs in a worker, and what waits for it."""

    def __init__(self, worker=None):
        self.worker = worker or Worker()
        self.waiting = []
        self.running = None  #: a Running, or None

    @property
    def idle(self):
        """Nothing runs and nothing waits."""
        return self.running is None and not self.waiting

    def cancel(self):
        """Stop what runs and forget what waits."""
        self.waiting.clear()
        if self.running:
            self.worker.cancel()
