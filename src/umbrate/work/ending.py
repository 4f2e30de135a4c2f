"""Telling somebody who is not there that long work has ended: a notification, a command, a mail; nothing else goes out.

Nothing of it can fail the work: what does not work is a sentence.
"""

import logging
import os
import shutil
import subprocess
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import getaddresses

from ..core.errors import UmbrateError
from ..core.names import is_plain

log = logging.getLogger(__name__)
WAIT_S = 20  #: for a program that only hands something on
SENDMAIL = ("sendmail", "/usr/sbin/sendmail", "/usr/lib/sendmail")


@dataclass(frozen=True)
class Ending:
    """How the end of long work is told.

    Attributes
    ----------
    notify : bool
        By a notification of the desktop (freedesktop.org), where there is one.
    command : str
        Run by ``sh``, with what is told in ``UMBRATE_TITLE`` and ``UMBRATE_TEXT``.
    mail : str
        An address, for the local ``sendmail``.
    """

    notify: bool = True
    command: str = ""
    mail: str = ""

    def check(self):
        """Raise UmbrateError where something of it cannot work, before the long work is begun."""
        if self.mail:
            parts = getaddresses([self.mail])
            good = len(parts) == 1 and parts[0][1] == self.mail and "@" in self.mail and is_plain(self.mail)
            if not good or self.mail.startswith("-") or any(c.isspace() for c in self.mail):
                raise UmbrateError(f"“{self.mail[:60]}” is no mail address.")
            if not _sendmail():
                raise UmbrateError("This machine has no sendmail, so no mail can be sent. Leave the mail out.")


def _sendmail():
    return next((p for n in SENDMAIL if (p := shutil.which(n))), None)


def tell(ending, title, text):
    """Tell that long work has ended; returns sentences of what did not work."""
    troubles = []
    for wanted, how in ((ending.notify, _notify), (ending.command, _run), (ending.mail, _mail)):
        if wanted:
            try:
                how(ending, title, text)
            except (OSError, subprocess.SubprocessError, ValueError) as e:
                log.warning("the end could not be told: %s", e)
                if how is not _notify:  # a machine without a desktop has none to notify
                    troubles.append(f"{'The command' if how is _run else 'The mail'} did not work ({e}).")
    return troubles


def _notify(ending, title, text):
    """A notification, by one of the small programs that hand it to the desktop."""
    if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        return
    if program := shutil.which("notify-send"):
        line = [program, "--app-name=Umbrate", "--", title, text]
    elif program := shutil.which("gdbus"):
        place = "org.freedesktop.Notifications"
        line = [
            program, "call", "--session", "--dest", place, "--object-path", f"/{place.replace('.', '/')}", "--method",
            f"{place}.Notify", "Umbrate", "0", "", title, text, "[]", "{}", "-1",
        ]  # fmt: skip
    else:
        return
    subprocess.run(line, timeout=WAIT_S, check=True, stdin=subprocess.DEVNULL, capture_output=True)


def _run(ending, title, text):
    # not waited for: it may be one that puts the machine to sleep
    env = {**os.environ, "UMBRATE_TITLE": title, "UMBRATE_TEXT": text}
    subprocess.Popen(["/bin/sh", "-c", ending.command], env=env, stdin=subprocess.DEVNULL, start_new_session=True)


def _mail(ending, title, text):
    program = _sendmail()
    if not program:
        raise ValueError("this machine has no sendmail")
    message = EmailMessage()
    message["To"], message["Subject"] = ending.mail, " ".join(title.split())
    message.set_content(text + "\n")
    subprocess.run([program, "-i", "--", ending.mail], input=message.as_bytes(), timeout=WAIT_S, check=True,
                   capture_output=True)  # fmt: skip
