"""Run the tests and end with ``N passed, N failed``.

``python tests/run.py`` runs all; names of modules, classes or tests run those only.
"""

import os
import sys
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SLOWEST = 5


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


def main(names):
    """Run and print; the exit code is 0 only when tests ran and none failed."""
    os.chdir(ROOT)
    for folder in (ROOT / "src", ROOT):
        if str(folder) not in sys.path:
            sys.path.insert(0, str(folder))
    # processes that tests start need the same
    os.environ["PYTHONPATH"] = os.pathsep.join([str(ROOT / "src"), os.environ.get("PYTHONPATH", "")]).rstrip(os.pathsep)
    # nothing that tests do may touch the settings of the person who runs them
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    result = unittest.TextTestRunner(resultclass=CountingResult, verbosity=2 if names else 1, stream=sys.stdout).run(
        suite
    )
    for seconds, name in sorted(result.times, reverse=True)[:SLOWEST]:
        print(f"  {seconds:6.1f} s  {name}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    if result.skipped:
        print(f"{len(result.skipped)} skipped")
    print(f"{result.passed} passed, {failed} failed", flush=True)
    return 0 if result.passed and not failed else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
