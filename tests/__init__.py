"""Tests never touch what belongs to the person who runs them: their lens cards, their demo job."""

import atexit
import os
import shutil
import tempfile

_HOME = tempfile.mkdtemp(prefix="umbrate-test-home-")
atexit.register(shutil.rmtree, _HOME, ignore_errors=True)
for _name in ("XDG_DATA_HOME", "XDG_STATE_HOME"):
    os.environ[_name] = _HOME
