"""A short form of the campaign of force (`bench/force.py`): each part a few times."""

import unittest

from tests import forcing, mutating
from tests.scenes import pebble_set, scratch


class ShortCampaign(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.home = scratch()
        found = forcing.acts(cls.home / "acts", pebble_set() / "by-hand", ("cloud", "window", "settings", "cards"))
        cls.acts = {a.name: a for a in found}
        cls.known = {n: forcing.known(a, cls.home / "known") for n, a in cls.acts.items()}

    def test_killed_at_any_moment_nothing_is_lost_and_it_comes_to_the_same(self):
        self.assertNotEqual(self.known["cloud"].before, self.known["cloud"].after)  # else nothing is compared
        for name, seeds in (("cloud", (1, 2)), ("window", (1,))):
            for seed in seeds:
                place = self.home / f"kill {name} {seed}"
                self.assertEqual(forcing.kill_once(self.acts[name], self.known[name], place, seed), [])

    def test_what_is_lost_is_seen_by_the_campaign(self):
        act, told = self.acts["window"], self.known["window"]
        wrong = forcing.Known(told.before, {**told.after, "S": []}, {}, 0.0)
        self.assertTrue(forcing.kill_once(act, wrong, self.home / "wrong", 1))

    def test_a_disk_that_fills_costs_the_step_alone(self):
        for name, free in (("cloud", 600), ("cloud", 90_000), ("settings", 20), ("cards", 40)):
            place = self.home / f"disk {name} {free}"
            self.assertEqual(forcing.fill_disk(self.acts[name], self.known[name], place, free, None), [])

    def test_a_job_that_is_open_and_what_happens_round_it(self):
        for name, tally in forcing.around(self.home / "around", self.acts["cloud"], self.known["cloud"], None).items():
            self.assertEqual(tally.wrong, [], name)

    def test_mutated_files_are_read_or_refused_with_a_sentence(self):
        job, photos = self.acts["window"].before, pebble_set() / "by-hand"
        tallies = mutating.campaign(self.home / "inputs", job, photos, 8 * len(mutating.KINDS), 77)
        self.assertEqual([w for t in tallies.values() for w in t.wrong], [])
        self.assertTrue(all(0 < t.tries for t in tallies.values()))
        self.assertGreater(sum(t.refused for t in tallies.values()), 20)

    def test_a_row_of_runs_leaves_threads_and_files_as_they_were(self):
        for name, tally in forcing.long_week(self.home, self.acts["cloud"].before, 24).items():
            if "memory" not in name:  # of so few runs it says nothing
                self.assertEqual(tally.wrong, [], name)


if __name__ == "__main__":
    unittest.main()
