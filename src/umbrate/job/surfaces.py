"""The surfaces of a sitting, side by side, and how each was mended."""

from .memo import remembered
from .sidebyside import Kept, SideBySide


class KeptSurface(Kept):
    """A surface of a sitting: its steps hold what the triangles are after each."""

    TABLE, STEPS, WORD, COUNT = "surface", "mending", "surface", "triangles"
    NAMED_BY = (("texture", "surface"),)

    @property
    def now(self):
        """Its figures as it is mended."""
        return {**self.figures, **(self.steps[-1].step.get("did", {}).get("now", {}) if self.steps else {})}


class Surfaces:
    """The part of a Job that holds surfaces."""

    @property
    def surface_list(self):
        """What is done to surfaces: see `SideBySide`."""
        return SideBySide(self, KeptSurface)

    @remembered
    def surfaces(self, sitting_id):
        """All KeptSurfaces of a sitting, the oldest first."""
        return self.surface_list.all_of(sitting_id)

    def surface(self, sitting_id, name=None):
        """The chosen KeptSurface of a sitting, or the one of that name; None where there is no surface."""
        return SideBySide.one_of(self.surfaces(sitting_id), name, "surface")
