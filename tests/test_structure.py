"""The house: what is imported late exists, what is listed of commands is what they say, and nothing is listed twice."""

import ast
import importlib
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


if __name__ == "__main__":
    unittest.main()
