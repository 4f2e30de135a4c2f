"""Run the tests and end with ``N passed, N failed``.

``python tests/run.py`` runs all, module by module in two processes; names of modules, classes or tests run those only,
here.
"""

import atexit
import faulthandler
import io
import multiprocessing
import os
import shutil
import sys
import tempfile
import time
import unittest
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, ProcessPoolExecutor, wait
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
MODULE_S = 1200  #: a module that takes longer hangs: five times the longest


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
    # the user's queue is not run by a window of a test, nor that of another test process by this one's
    os.environ["XDG_STATE_HOME"] = state = tempfile.mkdtemp(prefix="umbrate-test-")
    atexit.register(shutil.rmtree, state, True)
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
    faulthandler.dump_traceback_later(MODULE_S, exit=True)  # says where it hangs; the other modules still run
    try:
        return run([name], text, 1), text.getvalue()
    finally:
        faulthandler.cancel_dump_traceback_later()


def run_all():
    """Run all modules, the slowest and then the largest first; the sum of what came of them."""

    def order(file):
        return FIRST.index(file.stem) if file.stem in FIRST else len(FIRST), -file.stat().st_size

    files = sorted((ROOT / "tests").glob("test_*.py"), key=order)
    waiting = [f"tests.{f.stem}" for f in files]
    passed = failed = skipped = 0
    times = []
    while waiting:
        for name, (good, bad, left, took), text in _through_a_pool(waiting):
            waiting.remove(name)
            passed, failed, skipped = passed + good, failed + bad, skipped + left
            times += took
            print(f"== {name[6:]}: {good} passed, {bad} failed, {sum(t for t, _ in took):.0f} s", flush=True)
            if bad or not good:
                print(text, flush=True)
    return passed, failed, skipped, times


def _through_a_pool(names):
    """Yield (name, outcome, printed) of modules as they end; when a process dies, of those that ran, and stop."""
    # not forked: tests start threads
    with ProcessPoolExecutor(PROCESSES, multiprocessing.get_context("spawn")) as pool:
        waiting, going, broken = list(names), {}, False
        while going or (waiting and not broken):
            while waiting and len(going) < PROCESSES and not broken:
                name = waiting.pop(0)
                going[pool.submit(run_module, name)] = name
            for done in wait(going, return_when=FIRST_COMPLETED).done:
                name = going.pop(done)
                try:
                    yield name, *done.result()
                except Exception as e:
                    broken = isinstance(e, BrokenExecutor)
                    yield name, (0, 1, 0, []), f"{type(e).__name__}: {e}\n"


def main(names):
    """Run and print; the exit code is 0 only when tests ran and none failed."""
    prepare()
    with tempfile.TemporaryDirectory(prefix="umbrate-test-", ignore_cleanup_errors=True) as folder:
        os.environ["UMBRATE_TEST_SETS"] = folder  # what tests share is made once: see `scenes.made_once`
        # all that tests leave goes with it: processes of a pool do not run what is registered for their end
        os.environ["TMPDIR"] = tempfile.tempdir = folder
        passed, failed, skipped, times = run(names, sys.stdout, 2) if names else run_all()
    for seconds, name in sorted(times, reverse=True)[:SLOWEST]:
        print(f"  {seconds:6.1f} s  {name}")
    if skipped:
        print(f"{skipped} skipped")
    print(f"{passed} passed, {failed} failed", flush=True)
    return 0 if passed and not failed else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
