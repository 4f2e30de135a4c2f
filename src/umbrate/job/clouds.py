"""The clouds of a sitting, side by side, and how each was cleaned."""

from .memo import remembered
from .sidebyside import Kept, SideBySide


class KeptCloud(Kept):
    """A cloud of a sitting: its steps say which of the points before them stay, or where they moved to."""

    TABLE, STEPS, WORD, COUNT = "cloud", "cleaning", "cloud", "points"
    NAMED_BY = (("surface", "cloud"),)

    @property
    def scale_text(self):
        """The photo scale it was computed at, for people; of one put together from others, that."""
        return "united" if self.figures.get("united") else f"1/{self.settings.get('photo_scale', '?')}"


class Clouds:
    """The part of a Job that holds clouds."""

    @property
    def cloud_list(self):
        """What is done to clouds: see `SideBySide`."""
        return SideBySide(self, KeptCloud)

    @remembered
    def clouds(self, sitting_id):
        """All KeptClouds of a sitting, the oldest first."""
        return self.cloud_list.all_of(sitting_id)

    def cloud(self, sitting_id, name=None):
        """The chosen KeptCloud of a sitting, or the one of that name; None where there is no cloud."""
        return SideBySide.one_of(self.clouds(sitting_id), name, "cloud")
