"""Points are referred to by their identity: renaming one moves nothing else."""

import unittest

from tests.scenes import scratch
from tests.test_job import document, record
from tests.test_outside import call
from umbrate.core.errors import UmbrateError
from umbrate.job.store import Job
from umbrate.stages import BY_NAME


class ByIdentity(unittest.TestCase):
    def setUp(self):
        self.job = Job.create(scratch() / "j")
        self.addCleanup(self.job.close)
        self.a, _ = self.job.add_sitting("A", [record("/p/a.jpg"), record("/p/b.jpg")])
        self.b, _ = self.job.add_sitting("B", [record("/q/a.jpg"), record("/q/b.jpg")])
        self.marks = {}
        for s in (self.a, self.b):
            for n in ("Beak", "Tail", "Wing"):
                i = self.marks[s.name, n] = self.job.add_marked_point(s.id, n)
                for p in self.job.photos(s.id):
                    self.job.set_sighting(i, p.id, 10 + i, 20)
        self.row = self.job.add_joined([self.a.id, self.b.id], "Whole")

    def token(self, sitting, name):
        return f"@{self.marks[sitting, name]}"

    def test_what_refers_to_a_point_of_a_joined_row_goes_on_referring_to_it(self):
        job, row = self.job, self.row
        self.assertEqual(job.end_of(row.id, "Beak"), self.token("A", "Beak"))
        self.assertEqual(job.end_of(row.id, "Beak (B)"), self.token("B", "Beak"))
        job.add_length(row.id, "Beak", "Beak (B)", 30.0)
        job.add_measurement(row.id, "distance", ["Tail (B)", "Wing"])
        job.set_level(row.id, {"up": {"ends": ["Beak (B)", "Tail (B)", "Wing"]}, "origin": "Tail"})
        pick = job.add_pick(row.id, {self.a.id: {"mark": "Beak"}, self.b.id: {"mark": "Beak"}})

        def meant():
            (length,), (m,) = job.lengths(row.id), job.measurements(row.id)
            level, (p,) = job.level(row.id), job.picks(row.id)
            return [length.first, length.second, *m.ends, *level["up"]["ends"], level["origin"],
                    *(x["mark"] for _, x in sorted(p.places.items()))]  # fmt: skip

        before = meant()
        self.assertEqual(before[:2], [self.token("A", "Beak"), self.token("B", "Beak")])
        # every name changes hands, so that whatever goes by name now means another point
        for s in "AB":
            job.rename_marked_point(self.marks[s, "Beak"], "moving")
            job.rename_marked_point(self.marks[s, "Tail"], "Beak")
            job.rename_marked_point(self.marks[s, "Wing"], "Tail")
            job.rename_marked_point(self.marks[s, "Beak"], "Wing")
        self.assertEqual(meant(), before)
        names = job.end_names(row.id)
        self.assertEqual([names[e] for e in before[:4]], ["Wing", "Wing (B)", "Beak (B)", "Tail"])
        with self.assertRaisesRegex(UmbrateError, "already"):
            job.rename_marked_point(self.marks["A", "Tail"], "Wing")
        # a point that was removed is told, and no other of its name takes its place
        job.remove_marked_points([self.marks["B", "Beak"]])
        job.add_marked_point(self.b.id, "Wing")
        self.assertEqual(meant(), before)
        self.assertNotIn(before[1], job.end_names(row.id))
        with self.assertRaisesRegex(UmbrateError, "was removed"):
            job.end_of(row.id, before[1])
        self.assertEqual(job.picks(row.id)[0].id, pick)
        while job.undo():
            pass
        while job.redo():
            pass
        self.assertEqual(meant(), before)

    def test_figures_of_members_become_one_by_what_they_mean(self):
        job = self.job
        share = {
            "photos": ({"photos": 10, "readable": 9, "unreadable": [1], "missing": [], "bare": [], "soft": [2],
                        "sizes": 1, "cameras": 1, "camera": "M M 1", "megapixels": 3.0, "sharpness": {"2": 0.5},
                        "place": {"1": 0, "2": 1}},
                       {"photos": 4, "readable": 4, "unreadable": [], "missing": [3], "bare": [], "soft": [],
                        "sizes": 1, "cameras": 1, "camera": "N N 2", "megapixels": 1.0, "sharpness": {"3": 0.1},
                        "place": {"3": 0, "4": -1}}),
            "masks": ({"photos": 10, "masks": 10, "share": 0.2, "method": "files"},
                      {"photos": 30, "masks": 30, "share": 0.6, "method": "plates"}),
        }  # fmt: skip
        for stage, both in share.items():
            for s, f in zip((self.a, self.b), both, strict=True):
                job.commit_result(s.id, stage, f"mark of {s.name}", {}, f, [], {}, 1.0)
        f = job.result(self.row.id, "photos").figures
        self.assertEqual((f.photos, f.readable, f.megapixels, f.cameras), (14, 13, 4.0, 2))
        self.assertEqual((f.camera, f.unreadable, f.missing), ("M M 1", [1], [3]))
        self.assertEqual(f.place, {1: 0, 2: 1, 3: 2, 4: -1})
        f = job.result(self.row.id, "masks").figures
        self.assertEqual((f.photos, f.masks), (40, 40))
        self.assertAlmostEqual(f.share, 0.5)
        for name in ("photos", "masks", "lens"):
            if job.result(self.row.id, name):
                BY_NAME[name].headline(job.result(self.row.id, name).figures)
                job.result(self.row.id, name).figures.rows()

    def test_a_command_that_is_refused_changes_nothing(self):
        job, folder = self.job, self.job.folder
        job.commit_result(self.a.id, "poses", "x", {}, {"photos": 2, "solved": 2}, [], {}, 1.0)
        job.close()
        wrong = (
            ("join", folder, "--by", "picks", "--on-object", "7", "--pick", "Beak"),
            ("join", folder, "--name", "Other", "--by", "shape"),
            ("join", folder, "--by", "surface", "--pick", "Tail", "--pick", "no such"),
            ("points", folder, "--sitting", "A", "--rename", "Beak", "Tip", "--rename", "Tail", "Tip"),
            ("points", folder, "--sitting", "A", "--known", "Beak", "1", "2", "3", "--known", "Tail", "1", "inf", "3"),
            ("lengths", folder, "--sitting", "A", "--set", "Beak", "Tail", "5", "--set", "Beak", "nobody", "5"),
            ("lengths", folder, "--sitting", "A", "--set", "Beak", "Tail", "inf"),
            ("measure", folder, "--sitting", "A", "--add", "circle", "--end", "Beak"),
            ("level", folder, "--sitting", "A", "--by", "Beak", "--by", "Tail", "--by", "Wing"),
            ("run", folder, "--sitting", "A", "--to", "poses", "--set", "poses.features=900", "--set", "poses.seed=x"),
            ("aside", folder, "a.jpg", "nothing.jpg", "--sitting", "A"),
        )  # fmt: skip
        for command in wrong:
            with Job.open(folder) as job:
                before = document(job), job.undo_labels(), [e for e in job.ledger()]
            out = call(*command)
            self.assertIn(out.exit_code, (1, 2), (command, out.output))
            self.assertNotIn("Traceback", out.output)
            with Job.open(folder) as job:
                self.assertEqual((document(job), job.undo_labels()), before[:2], (command, out.output))
        self.job = Job.open(folder)
        self.addCleanup(self.job.close)

    def test_absurd_values_give_a_sentence(self):
        folder, of = self.job.folder, ("--sitting", "A")
        self.job.close()
        for command, said in (
            (("pair", folder, "a.jpg", "a.jpg", *of), "no pair with itself"),
            (("sift", folder, *of, "--by", "residual", "--above", "nan"), "must be a number"),
            (("run", folder, *of, "--set", "cloud.nearest=inf"), "finite"),
            (("run", folder, *of, "--set", "scale.sheet_sigma_mm=nan"), "scale.sheet_sigma_mm"),
            (("section", folder, *of, "--keep", ""), "no cloud yet"),
            (("section", folder, *of, "--plane", ""), "no section “”"),
            (("targets", "mat", folder.parent / "o.pdf", "--hole", "-5"), "hole of -5"),
            (("targets", "bars", folder.parent / "o.pdf", "--length", "inf"), "does not fit"),
            (("lengths", folder, *of, "--set", "Beak", "Tail", "1e12"), "must be a number"),
            (("lengths", folder, *of, "--set", "Beak", "Tail", "5", "--sigma", "nan"), "must be a number"),
            (("box", folder, *of, "--size", "nan", "1", "1"), ""),
            (("clean", folder, *of, "--by", "photos", "--set", "least=x"), ""),
        ):
            out = call(*command)
            self.assertEqual(out.exit_code, 1, (command, out.output))
            self.assertIn(said, " ".join(out.output.split()))
            self.assertNotIn("Traceback", out.output)
            self.assertNotIn("unexpected", out.output)
        self.job = Job.open(folder)
        self.addCleanup(self.job.close)


if __name__ == "__main__":
    unittest.main()
