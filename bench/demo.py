"""The demo's figures against its truth: what issue after issue is held to.

``python bench/demo.py [--json]`` runs the whole demo job in a temporary folder and prints each
figure with its limit; the exit code is 0 only when all are reached.
"""

import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]

if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        command = [str(ROOT / "umbrate"), "demo", "--no-window", "--job", f"{folder}/demo", *sys.argv[1:]]
        sys.exit(subprocess.call(command))
