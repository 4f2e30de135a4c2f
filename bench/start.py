"""How long one waits for the program to answer: the window from the launcher's call, and the command line.

``python bench/start.py [--job JOB]``: the launcher is called as people call it; the window counts as standing when it
has painted itself once. Each is the median of several, in seconds, after one call that does not count.
"""

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
REACH_S = {"--version": 0.3, "--help": 0.3, "--no-such-option": 0.3, "run --no-such-option": 0.3,
           "welcome page": 1.5, "a job": 2.5}  # fmt: skip

#: put where Python looks first: the event loop tells when the window was painted, and ends
TELL = """
from PyQt6.QtWidgets import QApplication
def told(*_):
    app = QApplication.instance()
    for _ in range(5):
        app.processEvents()
    assert any(w.isVisible() for w in app.topLevelWidgets())
    print("stands", flush=True)
    for w in app.topLevelWidgets():
        w.close()
    return 0
QApplication.exec = told
"""


def seconds(arguments, env, times, until=""):
    """The median time until the launcher called with some arguments ends, or prints a word."""
    out = []
    for _ in range(times + 1):
        start = time.perf_counter()
        p = subprocess.Popen([str(ROOT / "umbrate"), *arguments], env=env, stdout=subprocess.PIPE,
                             stderr=subprocess.DEVNULL, text=True)  # fmt: skip
        if until:
            line = next((x for x in p.stdout if x.strip() == until), "")
            took = time.perf_counter() - start
            p.communicate()
            if not line:
                raise SystemExit(f"umbrate {' '.join(arguments)} showed no window")
        else:
            p.communicate()
            took = time.perf_counter() - start
        out.append(took)
    return float(np.median(out[1:]))


def main():
    """Print the figures; the exit code is 0 only when all are reached."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--job", help="a job that is opened; left out where none is given")
    parser.add_argument("--times", type=int, default=5)
    a = parser.parse_args()
    with tempfile.TemporaryDirectory() as home:
        quiet = {**os.environ, "XDG_STATE_HOME": home, "QT_QPA_PLATFORM": "offscreen"}
        found = {x: seconds(x.split(), quiet, a.times) for x in REACH_S if x.startswith("-") or " --" in x}
        (Path(home) / "sitecustomize.py").write_text(TELL)
        window = {**quiet, "PYTHONPATH": home}
        found["welcome page"] = seconds([], window, a.times, "stands")
        if a.job:
            found["a job"] = seconds(["open", a.job], window, a.times, "stands")
    good = True
    for name, most in REACH_S.items():
        if name in found:
            good &= found[name] <= most
            word = "reached" if found[name] <= most else "MISSED"
            print(f"start: {name}: {found[name]:.2f} s (<= {most})  {word}")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
