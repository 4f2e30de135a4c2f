"""Start the window: ``python -m umbrate.desk [JOB]``."""

import sys

from PyQt6.QtWidgets import QApplication

from umbrate.desk import tokens
from umbrate.desk.window import Window


def make_app(arguments):
    """The QApplication in the desk's own look."""
    app = QApplication(["umbrate", *arguments])
    app.setApplicationName("Umbrate")
    app.setStyle("Fusion")
    app.setFont(tokens.font())
    app.setStyleSheet(tokens.STYLE)
    return app


def main(arguments):
    """Run the window until it is closed; returns the exit code."""
    app = make_app(arguments)
    window = Window()
    window.show()
    if arguments:
        window.open_path(arguments[0])
    return app.exec()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
