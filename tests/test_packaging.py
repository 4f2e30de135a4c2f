"""The menu entry, and what an installed package finds."""

import configparser
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from click.testing import CliRunner

from umbrate.cli.main import cli
from umbrate.job.store import Job
from umbrate.work import demo, menuentry, shipped


def words_of(command):
    """The arguments of an `Exec` line, after the rules of the desktop entry specification."""
    # first the rules for all strings: \\ is \
    text = command.replace("\\\\", "\\")
    out, word, quoted, k = [], "", False, 0
    while k < len(text):
        c = text[k]
        if quoted and c == "\\":
            k += 1
            word += text[k]
        elif c == '"':
            quoted = not quoted
        elif c == " " and not quoted:
            out.append(word)
            word = ""
        else:
            word += c
        k += 1
    return [w.replace("%%", "%") for w in [*out, word]]


class TheMenu(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory(prefix="umbrate-test-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.tools = self.folder / "tools"
        self.tools.mkdir()
        surroundings = {"XDG_DATA_HOME": str(self.folder / "share"), "PATH": str(self.tools)}
        patch = mock.patch.dict(os.environ, surroundings)
        patch.start()
        self.addCleanup(patch.stop)

    def all_files(self):
        return sorted(str(p.relative_to(self.folder)) for p in (self.folder / "share").rglob("*") if p.is_file())

    def test_what_is_installed_names_the_launcher_and_goes_again(self):
        run = CliRunner().invoke
        self.assertEqual(run(cli, ["install", "--remove"]).exit_code, 0)
        done = run(cli, ["install"])
        self.assertEqual(done.exit_code, 0, done.output)
        files = self.all_files()
        self.assertEqual(
            files,
            ["share/applications/umbrate.desktop", "share/icons/hicolor/scalable/apps/umbrate.svg",
             "share/mime/packages/umbrate.xml"],
        )  # fmt: skip
        parsed = configparser.RawConfigParser()
        parsed.optionxform = str
        parsed.read(self.folder / files[0])
        entry = parsed["Desktop Entry"]
        program, *rest = words_of(entry["Exec"])
        self.assertTrue(os.access(program, os.X_OK), program)
        self.assertEqual(rest, ["open", "%f"])
        self.assertIn("inode/directory", entry["MimeType"].split(";"))
        before = [(self.folder / f).read_bytes() for f in files]
        self.assertEqual(run(cli, ["install"]).exit_code, 0)
        self.assertEqual([(self.folder / f).read_bytes() for f in files], before)
        self.assertEqual(run(cli, ["install", "--remove"]).exit_code, 0)
        self.assertEqual(self.all_files(), [])

    def test_any_path_survives_the_exec_line(self):
        for path in ("/opt/scan tools/umbrate", '/a"b/umbrate', "/a$b`c/umbrate", "/a\\b/umbrate", "/100%/umbrate"):
            with self.subTest(path):
                self.assertEqual(words_of(menuentry.quoted(path) + " open %f"), [path, "open", "%f"])

    def test_folders_still_open_in_the_file_manager(self):
        log = self.folder / "log"
        tool = self.tools / "xdg-mime"
        tool.write_text(f'#!/bin/sh\n[ "$1" = query ] && echo files.desktop || echo "$@" >>{log}\n')
        tool.chmod(0o755)
        menuentry.install()
        self.assertEqual(log.read_text().split(), ["default", "files.desktop", "inode/directory"])


class WhatIsInstalled(unittest.TestCase):
    def test_the_file_in_a_jobs_folder_opens_the_job(self):
        with tempfile.TemporaryDirectory(prefix="umbrate-test-") as folder:
            Job.create(Path(folder) / "a.umbrate").close()
            with Job.open(Path(folder) / "a.umbrate" / "job.sqlite", writable=False) as job:
                self.assertEqual(job.folder.name, "a.umbrate")

    def test_the_demos_photos_are_found_in_the_package(self):
        with tempfile.TemporaryDirectory(prefix="umbrate-test-") as folder:
            kept = Path(folder) / "share" / "umbrate" / "demo" / "truth.json"
            kept.parent.mkdir(parents=True)
            kept.write_text("{}")
            file = mock.Mock(parts=kept.parts, locate=lambda: kept)
            with mock.patch.object(shipped, "__file__", str(Path(folder, "lib", "umbrate", "work", "shipped.py"))):
                with mock.patch("importlib.metadata.files", return_value=[mock.Mock(parts=("x", "y")), file]):
                    self.assertEqual(demo.demo_data(), kept.parent.resolve())


if __name__ == "__main__":
    unittest.main()


class Kernels(unittest.TestCase):
    def test_a_kernel_is_compiled_again_when_what_it_calls_has_changed(self):
        with tempfile.TemporaryDirectory(prefix="umbrate-test-") as held:
            package = Path(held) / "calling"
            (package / "deeper").mkdir(parents=True)
            for folder in (package, package / "deeper"):
                (folder / "__init__.py").touch()
            head = "from numba import njit\n\n\n@njit(cache=True)\ndef "
            (package / "outer.py").write_text(f"from . import middle\n{head}outer():\n    return middle.middle()\n")
            (package / "middle.py").write_text(
                f"from .deeper.inner import (\n    inner,\n)\n{head}middle():\n    return inner()\n"
            )
            code = "\nfrom calling.outer import outer\nprint(outer(), len(outer.stats.cache_hits))"

            def called(value, first="import umbrate"):
                (package / "deeper" / "inner.py").write_text(f"{head}inner():\n    return {value}\n")
                surroundings = {**os.environ, "PYTHONPATH": os.pathsep.join([held, *sys.path])}
                done = subprocess.run(
                    [sys.executable, "-c", first + code], env=surroundings, capture_output=True, text=True
                )
                self.assertEqual(done.returncode, 0, done.stderr)
                return done.stdout.split()

            self.assertEqual([called(1), called(1), called(2)], [["1", "0"], ["1", "1"], ["2", "0"]])
            self.assertEqual(called(2, "import numba, umbrate"), ["2", "1"], "whoever is imported first")
