"""The ledger: what ran is found again, two runs are told apart, earlier results come back while their data is there."""

import csv
import json
import unittest
from unittest import mock

from click.testing import CliRunner
from PyQt6.QtCore import QItemSelectionModel
from PyQt6.QtWidgets import QFileDialog

from tests.desk import DeskTest, setUpModule, tearDownModule, wait_for  # noqa: F401
from tests.scenes import scratch
from tests.test_stages import job_with, run
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError
from umbrate.desk.dialogs.ledger import LATELY, LedgerDialog
from umbrate.job.store import Job
from umbrate.stages import BY_NAME, ledger
from umbrate.work.state import is_current


def two_clouds():
    """A job whose Cloud ran twice, with other settings: its folder and the ids of both lines of the ledger."""
    job, sitting = job_with(scratch() / "job", "photos", "masks", "lens", "poses", "cloud")
    with job:
        job.set_settings(sitting.id, "cloud", {**job.settings(sitting.id, "cloud"), "min_photos": 4})
        run(job, sitting, "cloud")
        return job.folder, sitting, [e.id for e in job.ledger() if e.stage == "cloud"]


class Back(unittest.TestCase):
    def test_an_earlier_result_comes_back_with_its_settings_and_forth_again(self):
        folder, sitting, (first, second) = two_clouds()
        with Job.open(folder) as job:
            line = {e.id: e for e in job.ledger()}
            self.assertEqual(ledger.differing_settings(line[first], line[second]), [("Agreeing photos", "3", "4")])
            figures = {t: (a, b) for t, a, b, _ in ledger.figures_beside(line[first], line[second])}
            self.assertNotEqual(*figures["Points"])
            now = job.result(sitting.id, "cloud")
            settings = job.settings(sitting.id, "cloud")
            job.go_back(first, "cloud", ledger.settings_of(line[first]))
            back = job.result(sitting.id, "cloud")
            self.assertNotEqual(back.blob("cloud"), now.blob("cloud"))
            self.assertEqual(job.cloud(sitting.id).blob, back.blob("cloud"))
            self.assertTrue(is_current(job, sitting, BY_NAME["cloud"]))
            self.assertEqual(len(job.clouds(sitting.id)), 2)
            # the settings are undone, the result stays: it is stale then
            job.undo()
            self.assertEqual(job.settings(sitting.id, "cloud"), settings)
            self.assertFalse(is_current(job, sitting, BY_NAME["cloud"]))
            job.go_back(second, "cloud", ledger.settings_of(line[second]))
            again = job.result(sitting.id, "cloud")
            self.assertEqual((again.artefacts, again.fingerprint), (now.artefacts, now.fingerprint))
        with Job.open(folder) as job:  # closing tidies: it can still be gone back to
            self.assertEqual(job.can_go_back([first, second]), {first, second})
            with mock.patch("umbrate.job.earlier.MOST_BYTES", 10):
                job.tidy(thorough=True)
            job.blobs.path(job.clouds(sitting.id)[0].blob).unlink()
            self.assertEqual(job.can_go_back([first, second]), {second})
            for entry, words in ((first, "not kept any more"), (10**6, "not kept any more")):
                with self.assertRaisesRegex(UmbrateError, words):
                    job.go_back(entry, "cloud")
            self.assertEqual(job.result(sitting.id, "cloud").artefacts, now.artefacts)
            job.remove_sitting(sitting.id)
            with self.assertRaisesRegex(UmbrateError, "is gone"):
                job.go_back(second, "cloud")

    def test_only_the_last_results_are_kept_and_a_wrong_row_is_passed_over(self):
        job = Job.create(scratch() / "job")
        with job:
            s, _ = job.add_sitting("A", [])
            keys = [job.blobs.put_bytes(bytes([k])) for k in range(7)]
            for k in keys:
                job.commit_result(s.id, "poses", k, {}, {}, [], {("block", None): k}, 1.0)
            ids = [e.id for e in job.ledger()]
            self.assertEqual(job.can_go_back(ids), set(ids[-4:]))
            job.db.execute("UPDATE earlier SET artefacts = '[[1, 2, 3]]' WHERE entry = ?", (ids[-2],))
            self.assertEqual(job.can_go_back(ids), {ids[-4], ids[-3], ids[-1]})
            with self.assertRaises(UmbrateError):
                job.go_back(ids[-2])
        self.assertEqual([job.blobs.path(k).exists() for k in keys], [False] * 3 + [True, True, False, True])

    def test_from_the_terminal(self):
        folder, sitting, (first, second) = two_clouds()

        def call(*arguments, code=0):
            done = CliRunner().invoke(cli, ["ledger", str(folder), *map(str, arguments)])
            self.assertEqual(done.exit_code, code, done.output)
            return " ".join(w for w in done.output.split() if w not in "│┃")

        self.assertIn("agreeing photos 3 4", call("--compare", first, second).lower())
        self.assertIn("name two of one stage", call("--compare", first, 1, code=1))
        self.assertIn("no run 999", call("--back", 999, code=1))
        file = scratch() / "l.csv"
        call("--csv", file, "--stage", "cloud")
        self.assertIn("--replace", call("--csv", file, code=1))
        with open(file, newline="") as f:
            self.assertEqual([int(r["run"]) for r in csv.DictReader(f)], [first, second])
        self.assertIn(f"as run {first} left it", call("--back", first))
        done = CliRunner().invoke(cli, ["ledger", str(folder), "--json", "--sitting", sitting.name])
        last = json.loads(done.output)[-1]
        self.assertEqual((last["stage"], last["message"][:17]), ("cloud", "went back to the "))


class Page(DeskTest):
    def test_runs_are_chosen_by_stage_and_job_compared_gone_back_to_and_exported(self):
        other, _ = job_with(scratch() / "other", "photos")
        other.close()
        folder, sitting, (first, second) = two_clouds()
        self.window.open_path(folder)
        s = self.session
        newest = s.result("cloud").blob("cloud")
        dialog = LedgerDialog(s, self.window)
        self.addCleanup(dialog.deleteLater)
        wait_for(lambda: dialog.rows)
        dialog.stage.setCurrentText("Cloud")
        self.assertEqual([r[2].id for r in dialog.shown()], [second, first])
        dialog.table.selectRow(1)
        self.assertTrue(dialog.back.isEnabled())
        more = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
        dialog.table.selectionModel().select(dialog.table.model().index(0, 0), more)
        cells = [[dialog.beside.item(r, c).text() for c in range(3)] for r in range(dialog.beside.rowCount())]
        self.assertIn(["Agreeing photos", "3", "4"], cells)
        self.assertFalse(dialog.back.isEnabled())
        dialog.table.clearSelection()
        dialog.table.selectRow(1)
        dialog.back.click()
        wait_for(lambda: len(dialog.shown()) == 3)
        self.assertNotEqual(s.result("cloud").blob("cloud"), newest)
        self.assertEqual(s.job.settings(sitting.id, "cloud").get("min_photos", 3), 3)
        with mock.patch("umbrate.desk.dialogs.ledger.recent_jobs", return_value=[str(other.folder), "/nowhere"]):
            dialog.whose.setCurrentText(LATELY)
            wait_for(lambda: len({r[0] for r in dialog.rows}) == 2)
        dialog.stage.setCurrentText("Photos")
        self.assertEqual({r[0] for r in dialog.shown()}, {"job", "other"})
        dialog.table.selectRow([r[0] for r in dialog.shown()].index("other"))
        self.assertFalse(dialog.back.isEnabled())  # another job is looked at, not changed
        file = scratch() / "all.csv"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(file), "CSV (*.csv)")):
            dialog._export()
        with open(file, newline="") as f:
            self.assertEqual({r["job"] for r in csv.DictReader(f)}, {"job", "other"})


if __name__ == "__main__":
    unittest.main()
