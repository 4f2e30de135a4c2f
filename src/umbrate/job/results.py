"""What came of a job: results of stages, the ledger, where the user was."""

import json
from datetime import datetime

from .. import __version__
from .figures import plain_figures, read_figures
from .memo import remembered
from .model import LedgerEntry, Result
from .texts import parsed


def now():
    """This moment, as the job writes it."""
    return datetime.now().isoformat(timespec="seconds")


#: stages whose results of a joined row are those of its members, by how their figures become one: functions of a list
#: of figures, which the stages put here
MERGED = {}


def _together(sitting_id, stage, results):
    """Results of several sittings as one, or None where one is missing."""
    if None in results:
        return None
    first = results[0]
    return Result(
        first.id, sitting_id, stage, " ".join(r.fingerprint for r in results), first.settings,
        MERGED[stage]([r.figures for r in results]), [p for r in results for p in r.problems],
        sum(r.seconds for r in results), max(r.made for r in results),
        {k: v for r in results for k, v in r.artefacts.items()},
    )  # fmt: skip


class Results:
    """The part of a Job that holds results. Undo does not touch them: their fingerprints say whether they fit."""

    @remembered
    def result(self, sitting_id, stage):
        """The Result of a stage, or None.

        What a joined row needs of its photos is computed with its members: it has the results of all of them as one.
        """
        members = self.members(sitting_id)
        if stage in MERGED and members != (sitting_id,):
            return _together(sitting_id, stage, [self.result(m, stage) for m in members])
        row = self.db.execute(
            "SELECT id, sitting_id, stage, fingerprint, settings, figures, problems, seconds, made FROM result "
            "WHERE sitting_id = ? AND stage = ?",
            (sitting_id, stage),
        ).fetchone()
        if row is None:
            return None
        artefacts = {
            (n, p): b
            for n, p, b in self.db.execute("SELECT name, photo_id, blob FROM artefact WHERE result_id = ?", (row[0],))
        }
        settings, figures, problems = (parsed(x, kind) for x, kind in zip(row[4:7], (dict, dict, list), strict=True))
        figures = read_figures(stage, figures)
        if figures is None:
            return None  # nothing can be made of it: it is to be computed again
        return Result(*row[:4], settings, figures, problems, row[7], row[8], artefacts)

    def commit_result(
        self, sitting_id, stage, fingerprint, settings, figures, problems, artefacts, seconds, seen=None, keeps=""
    ):  # fmt: skip
        """Replace a stage's result, with all that hangs on it, and write the ledger, in one transaction.

        seen : dict of content hash to plain values, optional
            What was seen of files, kept by what is in them: see `seen`.
        keeps : str
            What stays besides the result, whatever becomes of that: "cloud" the cloud, "surface" the surface, "join"
            how sittings lie.
        """
        name = next((s.name for s in self.sittings() if s.id == sitting_id), "")
        with self._transaction():
            self.db.executemany(
                "INSERT OR REPLACE INTO seen VALUES (?, ?)", [(h, json.dumps(w)) for h, w in (seen or {}).items()]
            )
            self._put_result(
                sitting_id, name, stage, fingerprint, settings, plain_figures(figures), problems, artefacts, seconds,
                keeps, now(), "",
            )  # fmt: skip

    def _put_result(
        self, sitting_id, name, stage, fingerprint, settings, figures, problems, artefacts, seconds, keeps, made,
        message,
    ):  # fmt: skip
        """Let something be a stage's result, and write the ledger, inside the caller's transaction."""
        self.db.execute("DELETE FROM result WHERE sitting_id = ? AND stage = ?", (sitting_id, stage))
        rid = self.db.execute(
            "INSERT INTO result (sitting_id, stage, fingerprint, settings, figures, problems, seconds, made) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (
                sitting_id, stage, fingerprint, json.dumps(settings), json.dumps(figures), json.dumps(problems),
                seconds, made,
            ),
        ).lastrowid  # fmt: skip
        self.db.executemany(
            "INSERT INTO artefact VALUES (?, ?, ?, ?)", [(rid, n, p, b) for (n, p), b in artefacts.items()]
        )
        entry = self._write_ledger(sitting_id, name, stage, settings, seconds, "done", figures, message)
        self._keep_earlier(entry, sitting_id, stage, fingerprint, problems, made, artefacts)
        for kind in (self.cloud_list, self.surface_list):
            if keeps == kind.kind.WORD:  # it stands beside those before it
                kind.add(sitting_id, artefacts[keeps, None], settings, figures, made)
        if keeps == "join":
            self._keep_found(sitting_id, figures)

    def change_figures(self, sitting_id, stage, figures):
        """Other figures for a result that stays as it is: a list in them became shorter."""
        with self._transaction():
            self.db.execute(
                "UPDATE result SET figures = ? WHERE sitting_id = ? AND stage = ?",
                (json.dumps(plain_figures(figures)), sitting_id, stage),
            )

    def seen(self, hashes):
        """What was seen of files (see `commit_result`), by the hash of their content."""
        out = {}
        for h in hashes:
            row = self.db.execute("SELECT what FROM seen WHERE hash = ?", (h,)).fetchone()
            if row:
                out[h] = parsed(row[0])
        return out

    def record_failure(self, sitting_id, stage, settings, seconds, outcome, message):
        """Write a run that did not finish into the ledger; results stay as they were."""
        name = next((s.name for s in self.sittings() if s.id == sitting_id), "")
        with self._transaction():
            self._write_ledger(sitting_id, name, stage, settings, seconds, outcome, {}, message)

    def _write_ledger(self, sitting_id, sitting, stage, settings, seconds, outcome, figures, message):
        """Write a line of the ledger, inside the caller's transaction; returns its id."""
        return self.db.execute(
            "INSERT INTO ledger (moment, sitting, stage, settings, seconds, outcome, figures, message, program, "
            "sitting_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                now(), sitting, stage, json.dumps(settings), seconds, outcome, json.dumps(figures), message,
                __version__, sitting_id,
            ),
        ).lastrowid  # fmt: skip

    def ledger(self):
        """All entries, oldest first."""
        rows = self.db.execute(
            "SELECT id, moment, sitting, stage, settings, seconds, outcome, figures, message, program, sitting_id "
            "FROM ledger ORDER BY id"
        )
        return [LedgerEntry(*r[:4], parsed(r[4], dict), *r[5:7], parsed(r[7], dict), *r[8:]) for r in rows]

    # ------------------------------------------------------------------ where the user was
    def desk_state(self):
        """What the window remembered, as a dictionary."""
        return {k: parsed(v) for k, v in self.db.execute("SELECT key, value FROM desk")}

    def remember(self, **values):
        """Keep where the user was; not part of undo."""
        if not self.writable:
            return
        with self._transaction():
            for k, v in values.items():
                self.db.execute(
                    "INSERT INTO desk VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
                    (k, json.dumps(v)),
                )
