"""What came of a job: results of stages, the ledger, where the user was."""

import json
import re
from datetime import datetime

from .. import __version__
from .model import LedgerEntry, Result


def now():
    """This moment, as the job writes it."""
    return datetime.now().isoformat(timespec="seconds")


class Results:
    """The part of a Job that holds results. Undo does not touch them: their fingerprints say whether they fit."""

    def result(self, sitting_id, stage):
        """The Result of a stage, or None."""
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
        return Result(*row[:4], *(json.loads(x) for x in row[4:7]), row[7], row[8], artefacts)

    def commit_result(self, sitting_id, stage, fingerprint, settings, figures, problems, artefacts, seconds):
        """Replace a stage's result and write the ledger, in one transaction."""
        name = next((s.name for s in self.sittings() if s.id == sitting_id), "")
        with self._transaction():
            self.db.execute("DELETE FROM result WHERE sitting_id = ? AND stage = ?", (sitting_id, stage))
            rid = self.db.execute(
                "INSERT INTO result (sitting_id, stage, fingerprint, settings, figures, problems, seconds, made) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    sitting_id,
                    stage,
                    fingerprint,
                    json.dumps(settings),
                    json.dumps(figures),
                    json.dumps(problems),
                    seconds,
                    now(),
                ),
            ).lastrowid
            self.db.executemany(
                "INSERT INTO artefact VALUES (?, ?, ?, ?)", [(rid, n, p, b) for (n, p), b in artefacts.items()]
            )
            self._write_ledger(name, stage, settings, seconds, "done", figures, "")
        if ("cloud", None) in artefacts:
            # a cloud stands beside those before it, whatever becomes of the result
            self.add_cloud(sitting_id, artefacts["cloud", None], settings, figures, now())

    def record_failure(self, sitting_id, stage, settings, seconds, outcome, message):
        """Write a run that did not finish into the ledger; results stay as they were."""
        name = next((s.name for s in self.sittings() if s.id == sitting_id), "")
        with self._transaction():
            self._write_ledger(name, stage, settings, seconds, outcome, {}, message)

    def _write_ledger(self, sitting, stage, settings, seconds, outcome, figures, message):
        self.db.execute(
            "INSERT INTO ledger (moment, sitting, stage, settings, seconds, outcome, figures, message, program) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (now(), sitting, stage, json.dumps(settings), seconds, outcome, json.dumps(figures), message, __version__),
        )

    def ledger(self):
        """All entries, oldest first."""
        rows = self.db.execute(
            "SELECT id, moment, sitting, stage, settings, seconds, outcome, figures, message, program FROM ledger "
            "ORDER BY id"
        )
        return [LedgerEntry(*r[:4], json.loads(r[4]), *r[5:7], json.loads(r[7]), *r[8:]) for r in rows]

    # ------------------------------------------------------------------ where the user was
    def desk_state(self):
        """What the window remembered, as a dictionary."""
        return {k: json.loads(v) for k, v in self.db.execute("SELECT key, value FROM desk")}

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

    def collect_garbage(self):
        """Delete blobs no result refers to; returns how many."""
        used = {
            r[0]
            for r in self.db.execute(
                "SELECT blob FROM artefact UNION SELECT blob FROM handmask UNION SELECT blob FROM removed "
                "UNION SELECT blob FROM cloud UNION SELECT blob FROM cleaning"
            )
        }
        # masks drawn by hand, removed points and clouds that an undo or redo would bring back
        for (statement,) in self.db.execute(
            "SELECT statement FROM inverse WHERE statement LIKE '%handmask%' OR statement LIKE '%removed%' "
            "OR statement LIKE '%cloud%' OR statement LIKE '%cleaning%'"
        ):
            used.update(re.findall(r"[0-9a-f]{64}", statement))
        used |= self.blobs.known()
        count = 0
        for file in (self.folder / "blobs").glob("*/*"):
            if file.name not in used:
                file.unlink(missing_ok=True)
                count += 1
        return count
