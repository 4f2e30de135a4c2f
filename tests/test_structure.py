"""The house: what is imported late exists, what is listed of commands is what they say, and nothing is listed twice."""

import ast
import importlib
import json
import os
import re
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

import click

from tests.scenes import scratch
from tests.test_stages import job_with
from umbrate.cli.main import COMMANDS

SOURCE = Path(__file__).resolve().parents[1] / "src" / "umbrate"


def later_names(tree):
    """Modules that are imported late: name here to name of the module."""
    return {
        n.targets[0].id: n.value.args[0].value
        for n in tree.body
        if isinstance(n, ast.Assign) and isinstance(n.value, ast.Call) and getattr(n.value.func, "id", "") == "Later"
    }


class Imports(unittest.TestCase):
    def test_what_is_imported_late_is_there(self):
        checked = 0
        for file in SOURCE.rglob("*.py"):
            tree = ast.parse(file.read_text(encoding="utf-8"))
            late = later_names(tree)
            for node in ast.walk(tree):
                if isinstance(node, ast.Attribute) and getattr(node.value, "id", "") in late:
                    module = importlib.import_module(late[node.value.id])
                    self.assertTrue(hasattr(module, node.attr), f"{file.name}: {module.__name__}.{node.attr}")
                    checked += 1
        self.assertGreater(checked, 150)

    def test_the_command_line_never_imports_the_window_late_either(self):
        for file in (SOURCE / "cli").glob("*.py"):
            late = later_names(ast.parse(file.read_text(encoding="utf-8")))
            self.assertFalse([m for m in late.values() if m.startswith("umbrate.desk")], file.name)

    def test_texts_are_shown_as_they_are_by_one_file_alone(self):
        for file in (SOURCE / "desk").rglob("*.py"):
            if file.name != "plain.py":
                self.assertNotRegex(file.read_text(encoding="utf-8"), r"QLabel\(|QMessageBox\(|showText\(", file)


class Commands(unittest.TestCase):
    def test_what_is_listed_is_what_the_commands_say(self):
        found = {}
        for file in (SOURCE / "cli").glob("*.py"):
            module = importlib.import_module(f"umbrate.cli.{file.stem}")
            groups = [x for x in vars(module).values() if isinstance(x, click.Group)]
            below = [c for g in groups if g.name in COMMANDS for c in g.commands.values()]
            for name, x in vars(module).items():
                if isinstance(x, click.Command) and x not in below and (x.name in COMMANDS or x not in groups):
                    found.setdefault(x.name, set()).add((file.stem, name, x.get_short_help_str(999)))
        self.assertEqual(found, {name: {row} for name, row in COMMANDS.items()})


class Docs(unittest.TestCase):
    DOCS = SOURCE.parents[1] / "docs"

    def test_every_command_and_option_that_is_written_about_exists(self):
        """In the guide's tables and in all other pages: names of commands, and in the guide their options too."""
        pages = [*self.DOCS.glob("*.md"), self.DOCS.parent / "README.md"]
        named = {
            m.group(1): page.name
            for page in pages
            for m in re.finditer(r"umbrate ([a-z][a-z-]*)(?= [A-Z\[-]|`| [a-z]+ OUT)", page.read_text("utf-8"))
        }
        self.assertEqual({n: p for n, p in named.items() if n not in COMMANDS}, {})
        guide, checked = (self.DOCS / "guide.md").read_text("utf-8"), 0
        for line in guide.splitlines():
            m = re.match(r"\| `umbrate ([a-z-]+)", line)
            if not m:
                continue
            module, name, _ = COMMANDS[m.group(1)]
            command = getattr(importlib.import_module(f"umbrate.cli.{module}"), name)
            text = repr([p.opts + p.secondary_opts for p in command.params])
            if isinstance(command, click.Group):
                text += repr([[p.opts for p in c.params] for c in command.commands.values()])
            for option in re.findall(r"`(--[a-z-]+)", line):
                if option in ("--help", "--replace"):
                    continue
                self.assertIn(f"'{option}'", text, f"{m.group(1)} {option}")
                checked += 1
        self.assertGreater(checked, 60)
        missing = [n for n in COMMANDS if f"umbrate {n}" not in guide]
        self.assertEqual(missing, [])

    def test_links_and_modules_that_are_named_are_there(self):
        for page in self.DOCS.glob("*.md"):
            text = page.read_text("utf-8")
            for link in re.findall(r"\]\(([^)#]+?)(?:#[^)]*)?\)", text):
                if "://" not in link:
                    self.assertTrue((self.DOCS / link).exists(), f"{page.name}: {link}")
        text = (self.DOCS / "architecture.md").read_text("utf-8")
        for path in re.findall(r"`((?:core|stages|sitting|actions|job|work|desk|cli|formats)/[\w/]+\.py)`", text):
            self.assertTrue((SOURCE / path).exists(), path)


TOY = '''"""Tells how many letters the photos' names have."""

from ..base import Outcome, Stage, StageSettings
from ...job.figures import Figures, figure
from ...sitting.photos import photo_refs
from pydantic import Field


class Settings(StageSettings):
    least: int = Field(2, title="Letters at least", description="Shorter names do not count.", ge=1, le=9)


class TallyFigures(Figures):
    LINES = ("letters",)

    letters: int = figure(0, title="Letters", unit="letters", meaning="Of all names together")


class TallyStage(Stage):
    name, title = "tally", "Tally"
    about = "Counts the letters of the photos' names."
    needs = ("photos",)
    Settings = Settings
    Figures = TallyFigures

    def gather(self, job, sitting, settings, mode=""):
        return [p.name for p in photo_refs(job, sitting)]

    def key(self, job, sitting, settings):
        return []

    def run(self, inputs, settings, report):
        return Outcome(TallyFigures(letters=sum(len(n) for n in inputs if len(n) >= settings.least)))

    def headline(self, figures):
        return f"{figures.letters}", "letters"
'''
WINDOW = """
import json, os, sys
from PyQt6.QtWidgets import QLabel, QPushButton
from umbrate.desk.__main__ import make_app
from umbrate.desk.window import Window

if __name__ == "__main__":
    app, window = make_app([]), Window()
    window.resize(1280, 800)
    window.show()
    window.open_path(sys.argv[1])
    window.session.choose(stage="tally")
    app.processEvents()
    cell = next(c for c in window.session.board()[0] if c.stage == "tally")
    texts = [w.text() for kind in (QLabel, QPushButton) for w in window.bench.findChildren(kind)]
    print(json.dumps({"cell": [cell.first, cell.second, cell.state], "bench": texts}), flush=True)
    window.session.close()
    os._exit(0)
"""


class AStageMore(unittest.TestCase):
    def test_its_folder_and_one_list_bring_it_onto_the_board_the_bench_and_the_command_line(self):
        home = scratch()
        shutil.copytree(SOURCE, home / "umbrate")
        (home / "umbrate" / "stages" / "tally").mkdir()
        (home / "umbrate" / "stages" / "tally" / "__init__.py").touch()
        (home / "umbrate" / "stages" / "tally" / "stage.py").write_text(TOY)
        listed = home / "umbrate" / "stages" / "__init__.py"
        text = listed.read_text().replace("PhotosStage(), M", "PhotosStage(), TallyStage(), M")
        listed.write_text(text.replace("from .scale", "from .tally.stage import TallyStage\nfrom .scale"))
        job, sitting = job_with(scratch() / "j", "photos")
        total = sum(len(p.name) for p in job.photos(sitting.id))
        job.close()
        there = {**os.environ, "PYTHONPATH": str(home), "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": str(home)}

        def call(*arguments):
            done = subprocess.run(
                [sys.executable, *map(str, arguments)], capture_output=True, text=True, env=there, timeout=120
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            return done.stdout

        told = call("-m", "umbrate", "run", job.folder, "--to", "tally", "--set", "tally.least=3")
        self.assertIn(f"Tally: {total}, letters", told)
        status = json.loads(call("-m", "umbrate", "status", job.folder, "--json"))
        done = status["sittings"][0]["stages"]["tally"]
        self.assertEqual((done["state"], done["figures"]["letters"]), ("done", total))
        (home / "look.py").write_text(WINDOW)
        shown = json.loads(call(home / "look.py", job.folder).splitlines()[-1])
        self.assertEqual(shown["cell"], [f"{total}", "letters", "done"])
        for words in ("Tally", "Counts the letters of the photos' names.", "Letters", f"{total} letters"):
            self.assertIn(words, shown["bench"])


if __name__ == "__main__":
    unittest.main()
