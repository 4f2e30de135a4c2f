"""What the job stores of a photo file that comes in."""

import os
from dataclasses import fields
from pathlib import Path

from ...core.errors import UmbrateError
from ...core.imaging.decode import read_facts
from ...core.names import is_plain, printable
from ...job.sittings import content_hash
from ..base import Report


def record_of(file):
    """Work item: what the job stores of a photo file, or the sentence that says why it cannot be read."""
    if not is_plain(str(file)):
        return f"The name of {printable(file)} is no plain text (UTF-8). Rename it, then bring it in."
    try:
        if not os.path.lexists(file):
            return f"{file} does not exist. Check the name."
        facts = read_facts(file)
        path = Path(file).resolve()
        stat = path.stat()
        content = content_hash(path, stat.st_mtime_ns, stat.st_size)
    except UmbrateError as e:
        return str(e)
    except FileNotFoundError:
        return f"{Path(file).name} is not in {Path(file).parent}. Check the name."
    except (OSError, ValueError) as e:
        why = getattr(e, "strerror", None) or e
        return f"{Path(file).name} cannot be read ({why}). Check its permissions, or copy it again."
    return {
        "name": Path(file).name,
        "path": str(path),
        "size": stat.st_size,
        "hash": content,
        "modified": stat.st_mtime_ns,
        **{f.name: getattr(facts, f.name) for f in fields(facts)},
    }


def read_records(files, report=None):
    """What the job stores of each photo file, and the sentences about those that cannot be read.

    Returns
    -------
    records : list of dict
    refused : list of (file name, sentence)
    """
    report = report or Report()
    answers = report.map(record_of, files, "reading photo") if files else []
    records = [a for a in answers if isinstance(a, dict)]
    return records, [(Path(f).name, a) for f, a in zip(files, answers, strict=True) if isinstance(a, str)]
