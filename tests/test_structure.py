"""The house: what is imported late exists, what is listed of commands is what they say, and nothing is listed twice."""

import ast
import importlib
import re
import unittest
from pathlib import Path

import click

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


class Commands(unittest.TestCase):
    def test_what_is_listed_is_what_the_commands_say(self):
        found = {}
        for file in (SOURCE / "cli").glob("*.py"):
            module = importlib.import_module(f"umbrate.cli.{file.stem}")
            for name, x in vars(module).items():
                if isinstance(x, click.Command) and not isinstance(x, click.Group):
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


if __name__ == "__main__":
    unittest.main()
