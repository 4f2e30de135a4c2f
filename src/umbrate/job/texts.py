"""Texts of a job's database that hold values: read, and told in a sentence where they hold something else."""

import json

from .database import StoreError


def parsed(text, kind=object):
    """The value that a JSON text of the job stands for.

    kind : type or tuple of types that it must be of

    Raises
    ------
    StoreError
    """
    try:
        value = json.loads(text)
    except (ValueError, TypeError, RecursionError):
        value = StoreError
    if value is StoreError or not isinstance(value, kind):
        raise StoreError(
            f"An entry of the job is damaged (“{str(text)[:40]}”). Nothing was changed. Close the job; “umbrate check” "
            "with its name says what is damaged, and what can be mended."
        )
    return value
