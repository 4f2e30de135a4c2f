"""Earlier results of a job: what a run left behind is kept beside its line in the ledger, to go back to."""

import json
from contextlib import suppress

from ..core.errors import UmbrateError
from .texts import parsed

RESULTS_KEPT = 4  #: of a stage of a sitting, the present one among them
MOST_BYTES = 300_000_000  #: of an earlier result that tidying leaves alone; larger ones stay until it comes


class Earlier:
    """The part of a Job that goes back to earlier results."""

    def _keep_earlier(self, entry, sitting_id, stage, fingerprint, problems, made, artefacts):
        """Keep what a run left behind beside its line in the ledger, inside the caller's transaction."""
        kept = json.dumps([[n, p, b] for (n, p), b in artefacts.items()])
        self.db.execute(
            "INSERT INTO earlier VALUES (?, ?, ?, ?, ?, ?, ?)",
            (entry, sitting_id, stage, fingerprint, json.dumps(problems), made, kept),
        )
        self.db.execute(
            "DELETE FROM earlier WHERE sitting_id = ? AND stage = ? AND entry NOT IN "
            "(SELECT entry FROM earlier WHERE sitting_id = ? AND stage = ? ORDER BY entry DESC LIMIT ?)",
            (sitting_id, stage, sitting_id, stage, RESULTS_KEPT),
        )

    def can_go_back(self, entries):
        """Those of some lines of the ledger (their ids) whose results can be gone back to: their data is there."""
        wanted, out = set(entries), set()
        for entry, text in self.db.execute("SELECT entry, artefacts FROM earlier"):
            with suppress(UmbrateError):
                if entry in wanted and self.blobs.has(*{b for _, _, b in self._artefacts(text)}):
                    out.add(entry)
        return out

    @staticmethod
    def _artefacts(text):
        rows = parsed(text, list)
        good = all(
            isinstance(r, list) and len(r) == 3 and isinstance(r[0], str) and isinstance(r[2], str) for r in rows
        )
        if not good or not all(r[1] is None or isinstance(r[1], int) for r in rows):
            raise UmbrateError("What was kept of that run is damaged.")
        return [tuple(r) for r in rows]

    def go_back(self, entry, keeps="", values=None):
        """Let the result of an earlier run be the present one, with the settings it was made with.

        The settings are one change that can be undone; the result that was there until now can be gone back to, too.

        Parameters
        ----------
        entry : int
            Id of the run's line in the ledger.
        keeps : str
            As of `commit_result`.
        values : dict, optional
            Settings as they are chosen; those of the run where not given.

        Raises
        ------
        UmbrateError
            Where it is not kept any more; nothing is changed then.
        """
        row = self.db.execute(
            "SELECT sitting_id, stage, fingerprint, problems, made, artefacts FROM earlier WHERE entry = ?", (entry,)
        ).fetchone()
        line = next((e for e in self.ledger() if e.id == entry), None)
        if row is None or line is None or not self.can_go_back([entry]):
            raise UmbrateError("That result is not kept any more: its data was tidied away. Run the stage again.")
        sitting_id, stage, fingerprint, problems, made, text = row
        name = next((s.name for s in self.sittings() if s.id == sitting_id), None)
        if name is None:
            raise UmbrateError(f"The sitting “{line.sitting}” of that result is gone.")
        artefacts = {(n, p): b for n, p, b in self._artefacts(text)}
        with self.action(f"go back to {stage} of {line.when.replace('T', ' ')}"):
            self.set_settings(sitting_id, stage, line.settings if values is None else values)
            self._put_result(
                sitting_id, name, stage, fingerprint, line.settings, line.figures, parsed(problems, list), artefacts,
                line.seconds, keeps, made, f"went back to the run of {line.when.replace('T', ' ')}",
            )  # fmt: skip

    def earlier_blobs(self, db):
        """Keys of what earlier results in a job's database are made of, that tidying leaves alone."""
        used = set()
        for (text,) in db.execute("SELECT artefacts FROM earlier"):
            with suppress(UmbrateError):
                keys = {b for _, _, b in self._artefacts(text)}
                if self.blobs.has(*keys) and self.blobs.size_of(keys) <= MOST_BYTES:
                    used |= keys
        return used
