"""What of the user's files a job reads, so that nothing writes over it; and names that differ."""

from pathlib import Path

from ..core.errors import UmbrateError
from ..core.names import file_name
from ..formats.files import Gate, files_below


def files_read(job):
    """All files outside the job that it reads: photos, those set aside and plates too, masks, plates of folders."""
    out = [job.photo_path(p) for s in job.photo_sittings() for p in job.photos(s.id)]
    for s in job.photo_sittings():
        done = job.result(s.id, "masks")
        for values in (job.settings(s.id, "masks"), done.settings if done else {}):
            for key in ("folder", "plates"):
                folder = values.get(key)
                try:
                    if folder and Path(folder).is_dir():
                        out += files_below(folder)
                except OSError:
                    continue  # what cannot be listed cannot be written over either
    return out


def gate_of(job, replace=False):
    """The Gate for what is written from a job.

    replace : whether the user said that files may be replaced
    """
    return Gate(replace, files_read(job), job.folder)


def export_names(photos):
    """A name for each photo (by id), without ending, that no other has: what its files are called.

    The photo's own name without its ending; where several share that, with its ending (``a.jpg`` and ``a.png``), in a
    folder named as theirs (``top/a`` and ``side/a``), or both; else numbered. Mask files are looked for under the same
    names, so what is exported can be read again.

    photos : sequence with id, name and path
    """
    spellings = (
        lambda p: Path(p.name).stem,
        lambda p: p.name,
        lambda p: f"{Path(p.path).parent.name}/{Path(p.name).stem}",
        lambda p: f"{Path(p.path).parent.name}/{p.name}",
    )
    count = [{} for _ in spellings]
    for p in photos:
        for c, way in zip(count, spellings, strict=True):
            c[way(p).lower()] = c.get(way(p).lower(), 0) + 1
    out, taken = {}, set()
    for p in photos:
        name = next((w(p) for c, w in zip(count, spellings, strict=True) if c[w(p).lower()] == 1), spellings[-1](p))
        folder, _, last = name.rpartition("/")
        place = f"{file_name(folder)}/" if folder else ""
        last = file_name(last, {t[len(place) :] for t in taken if t.startswith(place.lower())})
        out[p.id] = place + last
        taken.add(out[p.id].lower())
    return out


def folder_names(sittings):
    """A folder name for each sitting (by id) that no other has."""
    out, taken = {}, set()
    for s in sittings:
        out[s.id] = file_name(s.name, taken)
        taken.add(out[s.id].lower())
    return out


def check_pattern(pattern):
    """Raise where a pattern of file names does not name each photo's file, or leads elsewhere."""
    if "{name}" not in pattern:
        raise UmbrateError("The file name needs {name} in it, for the photo's name: for example {name}_mask.png")
    if "/" in pattern or pattern.startswith("."):
        raise UmbrateError(f"“{pattern}” is no plain file name. Write it like {{name}}_mask.png, without a folder.")
