"""Recipes as TOML: read with the line of whatever is wrong, written with what each line means."""

import re
import textwrap
from pathlib import Path
from typing import get_args

import tomlkit
from tomlkit.exceptions import ParseError, TOMLKitError

from ...core.errors import UmbrateError
from ...formats.files import CLOSED, written_aside
from ...formats.reading import read_text
from ...job.joins import ON_OBJECT, ON_SUPPORT
from ...stages import BY_NAME, STAGES
from ...stages.base import choice_text
from .recipe import BOOKS, TEXTS, VERSION, Checking

MOST_BYTES = 1_000_000  #: of a recipe: one has some thousand
WIDTH = 96  #: characters of a line of comment
HEADER = re.compile(r"\s*\[(\[)?\s*([^\]]+?)\s*\]")
KEY = re.compile(r"""\s*["']?([\w.-]+)["']?\s*=""")


def line_of(text, path):
    """The line, counted from 1, at which a place of a TOML text stands, or the one of what it stands in; None without.

    path : names, and after that of a list the number of its part, as of ``("clean", 0, "least")``
    """
    found, count, table = {}, {}, ()
    for number, line in enumerate(text.splitlines(), 1):
        header = HEADER.match(line)
        if header and not KEY.match(line):
            names = tuple(n.strip().strip("\"'") for n in header[2].split("."))
            if header[1]:
                count[names] = count.get(names, -1) + 1
                names = (*names, count[names])
            table = names
            found.setdefault(table, number)
        elif key := KEY.match(line):
            found.setdefault((*table, *key[1].split(".")), number)
    path = tuple(path)
    while path and path not in found:
        path = path[:-1]
    return found.get(path)


def recipe_of_text(text, source):
    """The Recipe that a TOML text holds.

    source : what it is called in errors

    Raises
    ------
    UmbrateError
        With the line, and with what it takes.
    """
    try:
        data = tomlkit.parse(text).unwrap()
    except ParseError as e:
        what = str(e).split(" at line ")[0].rstrip(".")
        raise UmbrateError(f"{source}, line {e.line}: this is no TOML ({what}).") from None
    except (TOMLKitError, ValueError, RecursionError) as e:
        raise UmbrateError(f"{source}: this is no TOML ({e}).") from None

    def told(path, sentence):
        line = line_of(text, path)
        return UmbrateError(f"{source}{f', line {line}' if line else ''}: {sentence}")

    return Checking(told).recipe(data)


def read_recipe(file):
    """The Recipe of a file; raises UmbrateError as `recipe_of_text`."""
    return recipe_of_text(read_text(file, MOST_BYTES), str(Path(file).name))


def write_recipe(file, recipe, gate=CLOSED):
    """Write a recipe as a file; raises UmbrateError where that cannot be."""
    with written_aside(file, gate) as part:
        part.write_text(text_of_recipe(recipe), encoding="utf-8")


def text_of_recipe(recipe):
    """A recipe as TOML. Reading it gives the same recipe."""
    doc = tomlkit.document()
    _comment(doc, "A recipe of Umbrate. Stages that it does not name stay as they are; settings are at their default.")
    doc.add("umbrate", "recipe")
    doc.add("version", VERSION)
    for key in TEXTS:
        if value := getattr(recipe, key):
            doc.add(key, tomlkit.string(value, multiline="\n" in value))
    doc.add("until", tomlkit.item(recipe.until).comment("the last stage that is run by it"))
    if recipe.together is not None:
        how = "the sittings are joined, and the rest is made of the whole" if recipe.together else "each sitting alone"
        doc.add("together", tomlkit.item(recipe.together).comment(how))
    names = [s.name for s in STAGES]
    for name in sorted(recipe.stages, key=names.index):
        doc.add(name, _settings(name, recipe.stages[name]))
    if recipe.joined:
        joined = tomlkit.table(is_super_table=True)
        for name in sorted(recipe.joined, key=names.index):
            joined.add(name, _settings(name, recipe.joined[name], "of joined sittings"))
        doc.add("joined", joined)
    if recipe.stand is not None:
        doc.add("stand", _table({k: _plain(v) for k, v in recipe.stand.items()}, "how the object stands"))
    if recipe.targets:
        names = {ON_OBJECT: "on_object", ON_SUPPORT: "on_support"}
        doc.add("targets", _table({names[k]: list(v) for k, v in recipe.targets.items()}, "where targets are"))
    _list(doc, "length", [{**r, "first": int(r["first"]), "second": int(r["second"])} for r in recipe.lengths])
    for part, book in BOOKS.items():
        _list(doc, part, [_step(s) for s in getattr(recipe, part)], [book.text(s) for s in getattr(recipe, part)])
    _list(doc, "deliver", [_readable("deliver", d) for d in recipe.deliver])
    return tomlkit.dumps(doc)


def _comment(container, text):
    for line in textwrap.wrap(text, WIDTH):
        container.add(tomlkit.comment(line))


def _plain(value):
    if isinstance(value, tuple):
        return [int(v) for v in value]
    return int(value) if str(value).isdigit() else value


def _readable(name, values):
    """Settings as people write them: a choice by what it is called where that is a number with a sign (1/4)."""
    fields, out = BY_NAME[name].Settings.model_fields, {}
    for k, v in values.items():
        extra = fields[k].json_schema_extra or {}
        numbers = get_args(fields[k].annotation) and "unit" in extra and "labels" not in extra
        out[k] = choice_text(v, extra) if numbers and not isinstance(v, str | list | dict) else v
    return out


def _settings(name, values, more=""):
    stage = BY_NAME[name]
    fields = stage.Settings.model_fields
    table = tomlkit.table()
    if more or not values:
        table.comment(", ".join(x for x in (more, "" if values else "all settings by default") if x))
    for k, v in _readable(name, values).items():
        _comment(table, fields[k].description or "")
        table.add(k, v)
    return table


def _table(values, told):
    table = tomlkit.table()
    table.comment(told)
    for k, v in values.items():
        table.add(k, v)
    return table


def _step(step):
    rest = {k: v for k, v in step.items() if k not in ("filter", "keep", "frame", "box", "did")}
    return {"by": step["filter"], **({"keep": True} if step.get("keep") else {}), **rest}


def _list(doc, name, rows, told=()):
    if not rows:
        return
    out = tomlkit.aot()
    for k, row in enumerate(rows):
        table = tomlkit.table()
        if told:
            _comment(table, told[k])
        for key, value in row.items():
            table.add(key, value)
        out.append(table)
    doc.add(name, out)
