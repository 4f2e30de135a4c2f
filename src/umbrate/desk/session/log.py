"""The log of a session: what was told and done since the window opened, line by line."""

import logging
import time

from ...stages import BY_NAME

LOG_LINES = 5000


class _Handler(logging.Handler):
    """Warnings and errors of the program, with their traces."""

    def __init__(self, write):
        super().__init__(logging.WARNING)
        self._write = write

    def emit(self, record):
        self._write(self.format(record))


class SessionLog:
    """Attributes: `lines`."""

    def __init__(self):
        self.lines, self._last_step = [], None
        logging.getLogger("umbrate").addHandler(_Handler(self.write))

    def write(self, text, _=""):
        """Add a line."""
        if text:
            self.lines.append(f"{time.strftime('%H:%M:%S')}  {text}")
            del self.lines[:-LOG_LINES]

    def progress(self, data):
        """Add the steps of a run, once each: of “depth of photo 3 of 24” only the first."""
        sentence = data["sentence"].rstrip("0123456789 ").removesuffix("of").rstrip("0123456789 ")
        step = data["sitting"], data["stage"], sentence
        if step != self._last_step:
            self._last_step = step
            self.write(f"{BY_NAME[data['stage']].title}: {data['sentence']}")
