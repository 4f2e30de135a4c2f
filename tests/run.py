"""Run the tests and end with ``N passed, N failed``.

``python tests/run.py`` runs all, module by module in two processes; names of modules, classes or tests run those only,
here.
"""

import faulthandler
import io
import multiprocessing
import os
import sys
import tempfile
import time
import unittest
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SLOWEST = 5
FIRST = (
    "test_delivering",
    "test_stages",
    "test_cli",
    "test_desk",
    "test_force",
    "test_cluster",
    "test_dense",
    "test_desk_safety",
    "test_join",
    "test_lens",
)  #: take longest: last, one process would wait
PROCESSES = 2  #: as many as the least machine has cores


class CountingResult(unittest.TextTestResult):
    """Counts tests that passed, which unittest does not, and how long each took."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.passed, self.times = 0, []

    def startTest(self, test):
        super().startTest(test)
        self._start = time.monotonic()

    def stopTest(self, test):
        super().stopTest(test)
        self.times.append((time.monotonic() - self._start, test.id()))

    def addSuccess(self, test):
        super().addSuccess(test)
        self.passed += 1

    def addExpectedFailure(self, test, err):
        super().addExpectedFailure(test, err)
        self.passed += 1


def prepare():
    """Make this process, and those that tests start, find the sources and leave the user's settings alone."""
    os.chdir(ROOT)
    faulthandler.enable()  # a crash in a library names the line that led there
    for folder in (ROOT / "src", ROOT):
        if str(folder) not in sys.path:
            sys.path.insert(0, str(folder))
    if str(ROOT / "src") not in os.environ.get("PYTHONPATH", "").split(os.pathsep):
        paths = [str(ROOT / "src"), os.environ.get("PYTHONPATH", "")]
        os.environ["PYTHONPATH"] = os.pathsep.join(paths).rstrip(os.pathsep)
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from umbrate.work.worker import ONE_THREAD  # which imports no library that would read these first

    # as in a worker: with several threads the linear-algebra library's last bits depend on what else runs
    for name, value in ONE_THREAD.items():
        os.environ.setdefault(name, value)


def run(names, stream, verbosity):
    """Run tests by their names; what came of them as plain values: passed, failed, skipped, and times."""
    suite = unittest.defaultTestLoader.loadTestsFromNames(names)
    r = unittest.TextTestRunner(resultclass=CountingResult, verbosity=verbosity, stream=stream).run(suite)
    failed = len(r.failures) + len(r.errors) + len(r.unexpectedSuccesses)
    return r.passed, failed, len(r.skipped), r.times


def run_module(name):
    """Run a module in a process of its own: what came of it, and what it printed."""
    prepare()
    text = io.StringIO()
    return run([name], text, 1), text.getvalue()


def run_all():
    """Run all modules, the slowest and then the largest first; the sum of what came of them."""

    def order(file):
        return FIRST.index(file.stem) if file.stem in FIRST else len(FIRST), -file.stat().st_size

    files = sorted((ROOT / "tests").glob("test_*.py"), key=order)
    passed = failed = skipped = 0
    times = []
    # not forked: tests start threads
    with ProcessPoolExecutor(PROCESSES, multiprocessing.get_context("spawn")) as pool:
        going = {pool.submit(run_module, f"tests.{f.stem}"): f.stem for f in files}
        for done in as_completed(going):
            try:
                (good, bad, left, took), text = done.result()
            except Exception as e:  # its process died: the others' results still count
                good, bad, left, took, text = 0, 1, 0, [], f"{type(e).__name__}: {e}\n"
            passed, failed, skipped = passed + good, failed + bad, skipped + left
            times += took
            print(f"== {going[done]}: {good} passed, {bad} failed, {sum(t for t, _ in took):.0f} s", flush=True)
            if bad or not good:
                print(text, flush=True)
    return passed, failed, skipped, times


def main(names):
    """Run and print; the exit code is 0 only when tests ran and none failed."""
    prepare()
    with tempfile.TemporaryDirectory(prefix="umbrate-test-") as folder:
        os.environ["UMBRATE_TEST_SETS"] = folder  # what tests share is made once: see `scenes.made_once`
        passed, failed, skipped, times = run(names, sys.stdout, 2) if names else run_all()
    for seconds, name in sorted(times, reverse=True)[:SLOWEST]:
        print(f"  {seconds:6.1f} s  {name}")
    if skipped:
        print(f"{skipped} skipped")
    print(f"{passed} passed, {failed} failed", flush=True)
    return 0 if passed and not failed else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
