"""Tasks: long work that is no stage, such as reading photos in or trying a mask, one after another.

They have a worker of their own, so that photos come in while a cloud is computed. What a task
brings back is handed to whoever sent it; it changes no job by itself.
"""

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass

from .serial import Running, Serial
from .worker import Worker

log = logging.getLogger(__name__)


@dataclass
class Task(Running):
    """One call ``function(*arguments, report)`` in the worker.

    Attributes
    ----------
    title : str
        What it does, for people.
    then : callable(value)
        Called with its value, in the process that sent it.
    otherwise : callable(message, kind)
        Called instead where there is none: kind is failed, crashed or cancelled.
    """

    title: str = ""
    function: Callable = None
    arguments: tuple = ()
    then: Callable = None
    otherwise: Callable = None


class Tasks(Serial):
    """Runs tasks. Call `poll` often."""

    def send(self, title, function, arguments, then, otherwise):
        """Queue a task (see `Task`)."""
        self.waiting.append(Task(title=title, function=function, arguments=arguments, then=then, otherwise=otherwise))

    def poll(self, timeout=0.0):
        """Start what can start and hand over what came back; returns whether anything moved."""
        if self.running is None and self.waiting:
            self.running = self.waiting.pop(0)
            self.running.started = time.monotonic()
            self.worker.submit(self.running.function, *self.running.arguments)
        if self.running is None:
            return False
        events = self.worker.poll(timeout)
        for e in events:
            task = self.running
            if e.kind == "progress":
                task.follow(e.data)
            elif e.kind != "live":
                self.running = None
                if e.data.get("traceback"):
                    log.error("%s", e.data["traceback"])
                if e.kind == "done":
                    task.then(e.data["value"])
                else:
                    task.otherwise(e.data["message"], e.kind)
        return bool(events)

    def close(self):
        """End the worker; what runs is lost."""
        self.waiting.clear()
        self.running = None
        self.worker.close()
        self.worker = Worker()
