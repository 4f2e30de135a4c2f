"""Where recipes lie: those built in, and the user's own on a shelf of files; found by name, or as a file anywhere."""

from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

import platformdirs

from ...core.errors import UmbrateError, WouldReplace
from ...core.names import file_name, plain_name
from ...formats.files import Gate, make_folder
from .recipe import Recipe
from .text import read_recipe, recipe_of_text, write_recipe

ORDER = ("turntable", "handheld", "precise", "relief", "quick", "print")  #: of those built in
SUFFIX = ".toml"


@dataclass(frozen=True)
class Kept:
    """A recipe that can be chosen: the short name of one built in or else "", its file where it has one of its own."""

    recipe: Recipe
    short: str = ""
    file: Path | None = None


def built_in():
    """The recipes that come with the program, a list of Kept."""
    folder = files(__package__) / "built_in"
    return [
        Kept(recipe_of_text((folder / f"{n}{SUFFIX}").read_text(encoding="utf-8"), f"{n}{SUFFIX}"), n) for n in ORDER
    ]


def shelf_folder():
    """Where the user's recipes lie."""
    return Path(platformdirs.user_data_dir("umbrate", appauthor=False)) / "recipes"


def own():
    """The user's recipes by name, and (file, sentence) of files that are none; a list of Kept, a list."""
    out, bad = [], []
    try:
        found = sorted(f for f in shelf_folder().iterdir() if f.suffix == SUFFIX and not f.name.startswith("."))
    except OSError:
        found = []
    for file in found:
        try:
            out.append(Kept(read_recipe(file), file=file))
        except UmbrateError as e:
            bad.append((file, str(e)))
    return sorted(out, key=lambda k: k.recipe.name.lower()), bad


def find_recipe(name):
    """The Kept of a name (of the user's own, or built in), of a short name, or of a file.

    Raises
    ------
    UmbrateError
        Where there is none, or the file is no recipe.
    """
    text = str(name)
    if text.endswith(SUFFIX) or "/" in text:
        return Kept(read_recipe(text), file=Path(text))
    mine, bad = own()
    every = [*mine, *built_in()]
    for k in every:
        if text.lower() in (k.recipe.name.lower(), k.short):
            return k
    for file, sentence in bad:
        if file.stem.lower() == text.lower():
            raise UmbrateError(f"The recipe “{text}” on your shelf cannot be used. {sentence}")
    known = ", ".join(f"“{k.recipe.name}”" + (f" ({k.short})" if k.short else "") for k in every)
    raise UmbrateError(f"There is no recipe “{text}”. There are: {known}; or name a {SUFFIX} file.")


def keep_recipe(recipe, replace=False):
    """Keep a recipe on the user's shelf; returns its file.

    Raises
    ------
    WouldReplace
        Where one of that name is there and `replace` is False.
    UmbrateError
        Where one built in has the name.
    """
    name = plain_name(recipe.name, "A recipe")
    if any(name.lower() in (k.recipe.name.lower(), k.short) for k in built_in()):
        raise UmbrateError(f"“{name}” is built in. Give yours another name.")
    mine, bad = own()
    there = next((k.file for k in mine if k.recipe.name.lower() == name.lower()), None)
    if there and not replace:
        raise WouldReplace(f"A recipe “{name}” is on your shelf already. Nothing was changed.", paths=[there])
    make_folder(shelf_folder())
    taken = {k.file.stem.lower() for k in mine} | {f.stem.lower() for f, _ in bad}
    file = there or shelf_folder() / f"{file_name(name, taken)}{SUFFIX}"
    write_recipe(file, recipe, Gate(replace=there is not None))
    return file


def remove_recipe(name):
    """Take one of the user's recipes off the shelf; returns its name."""
    kept = next((k for k in own()[0] if k.recipe.name.lower() == str(name).lower()), None)
    if kept is None:
        names = ", ".join(f"“{k.recipe.name}”" for k in own()[0]) or "none"
        raise UmbrateError(f"There is no recipe “{name}” on your shelf (there is: {names}).")
    try:
        kept.file.unlink()
    except OSError as e:
        raise UmbrateError(f"{kept.file.name} cannot be removed ({e.strerror}).") from e
    return kept.recipe.name
