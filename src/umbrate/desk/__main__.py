"""Start the window: ``python -m umbrate.desk [JOB]``."""

import logging
import sys

from PyQt6 import sip
from PyQt6.QtCore import QTimer, QtMsgType, qInstallMessageHandler
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from umbrate.desk import appearance, tokens
from umbrate.desk.plain import PlainTips
from umbrate.desk.warmth import Warmth
from umbrate.desk.window import Window
from umbrate.formats.parts import remove_left_parts
from umbrate.work.logs import begin_log

QT_LEVELS = {
    QtMsgType.QtDebugMsg: logging.DEBUG, QtMsgType.QtInfoMsg: logging.INFO, QtMsgType.QtWarningMsg: logging.WARNING,
    QtMsgType.QtCriticalMsg: logging.ERROR, QtMsgType.QtFatalMsg: logging.CRITICAL,
}  # fmt: skip


def log_qt(kind, context, text):
    """What Qt complains of goes into the log."""
    logging.getLogger("umbrate.qt").log(QT_LEVELS.get(kind, logging.WARNING), "%s", text)


def watch(session):
    """From now on no error ends the program: it is written into the log, and the user reads a sentence.

    A slot's error ends a Qt program only where nobody looks after `sys.excepthook`.
    """
    begin_log(tell=session.unforeseen.emit)
    qInstallMessageHandler(log_qt)


def make_app(arguments):
    """The QApplication in the desk's own look."""
    appearance.before_start()
    app = QApplication(["umbrate", *arguments])
    app.setApplicationName("Umbrate")
    app.setDesktopFileName("umbrate")
    app.setWindowIcon(QIcon(f"{tokens.PICTURES}/umbrate.svg"))
    app.setStyle("Fusion")
    app.setFont(tokens.font())
    appearance.put_on(app)
    tips = PlainTips(app)
    app.installEventFilter(tips)
    app.aboutToQuit.connect(lambda: app.removeEventFilter(tips))  # nothing of ours is called while Qt takes itself down
    return app


def main(arguments):
    """Run the window until it is closed; returns the exit code."""
    remove_left_parts()
    app = make_app(arguments)
    window = Window()
    watch(window.session)
    window.show()
    if arguments:
        window.open_path(arguments[0])
    QTimer.singleShot(0, Warmth(window).begin)
    code = app.exec()
    sip.delete(window)  # before the application: the other way round Qt ends the process by a fault
    return code


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
