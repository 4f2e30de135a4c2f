"""Machine code of kernels on disk, good only while every source that went into it is what it was.

Numba keeps the machine code of a kernel by the content of the file the kernel stands in. But what a kernel calls is
compiled into it, from other files too: without more, a kernel would go on with the old code of what it calls after an
update. So here the stamp of a kernel covers its file and every file of the core that it imports, and what those import.

`umbrate` names the two classes below to numba before numba is imported.
"""

import hashlib
import re
from functools import cache
from pathlib import Path

from numba.core.caching import InTreeCacheLocator, UserProvidedCacheLocator, UserWideCacheLocator

IMPORT = re.compile(r"^[ \t]*from[ \t]+(\.+)([\w.]*)[ \t]+import[ \t]+(\([^)]*\)|[^\n]*)", re.MULTILINE)


@cache
def _content(path):
    return path.read_bytes()


@cache
def _imported(path):
    """The files that a module imports relative to itself, as the core does everywhere."""
    out = set()
    for dots, name, what in IMPORT.findall(_content(path).decode()):
        folder = path.parents[len(dots) - 1]
        base = folder.joinpath(*filter(None, name.split(".")))
        own = [base / word for word in re.findall(r"\w+", what)]  # `from . import module`
        out.update(p for p in (x.with_suffix(".py") for x in [base, *own]) if p.is_file())
    return out


def sources(path):
    """A module's file and all that it imports directly or not, sorted."""
    found, todo = set(), [Path(path).resolve()]
    while todo:
        p = todo.pop()
        if p not in found:
            found.add(p)
            todo.extend(_imported(p))
    return sorted(found)


@cache
def stamp(path):
    """Hash over a module's file and all that it imports."""
    digest = hashlib.sha256()
    for p in sources(path):
        digest.update(hashlib.sha256(_content(p)).digest())
    return digest.digest()


class _OfAllSources:
    def get_source_stamp(self):
        return stamp(self._py_file)


class Chosen(_OfAllSources, UserProvidedCacheLocator):
    """In the folder that NUMBA_CACHE_DIR names."""


class Beside(_OfAllSources, InTreeCacheLocator):
    """Beside the kernel's file."""


class OfUser(_OfAllSources, UserWideCacheLocator):
    """In the user's own cache, where the place of the package cannot be written to."""
