"""Tables as CSV that a spreadsheet only shows: no cell of ours is a formula.

Names come from whoever made a job, and a spreadsheet runs what begins with an equals sign.
"""

import csv

STARTS = ("=", "+", "-", "@", "\t", "\r")  #: what a spreadsheet may take for the beginning of a formula


def disarmed(value):
    """A cell as it is written: text that could be a formula gets an apostrophe before it, numbers stay as they are."""
    if not isinstance(value, str) or not value.lstrip("' ").startswith(STARTS):
        return value
    try:
        float(value)
        return value
    except ValueError:
        return f"'{value}"


def armed(text):
    """A cell as it was before `disarmed`."""
    return text[1:] if text[:1] == "'" and disarmed(text[1:]) != text[1:] else text


class TableWriter:
    """Writes rows of cells into an open text file."""

    def __init__(self, file, **format):
        self._writer = csv.writer(file, **format)

    def writerow(self, row):
        """Write one row."""
        self._writer.writerow([disarmed(x) for x in row])

    def writerows(self, rows):
        """Write several rows."""
        for row in rows:
            self.writerow(row)
