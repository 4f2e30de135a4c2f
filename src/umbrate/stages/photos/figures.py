"""What the Photos stage finds out about a sitting's photos."""

from ...job.figures import Figures, figure


class PhotosFigures(Figures):
    """Figures of the Photos stage; dictionaries go by photo id."""

    LINES = ("photos", "readable", "line_of_cameras", "megapixels")

    photos: int = figure(0, title="Photos", meaning="Photos in use in this sitting")
    readable: int = figure(0, title="Readable", meaning="Photos whose file could be decoded to the end")
    unreadable: list[int] = []
    missing: list[int] = []  #: of these the file was not there
    finds: int = 0  #: how often files that a run had missed were found again
    cameras: int = figure(1, title="Cameras", meaning="By EXIF")
    camera: str = ""  #: of most photos
    megapixels: float = figure(0.0, title="Together", unit="MP", meaning="Pixels of all photos", form=".0f")
    sizes: int = 1  #: how many different sizes there are
    bare: list[int] = []  #: show the bare backdrop
    soft: list[int] = []
    place: dict[int, int] = {}  #: where each was taken from, by a number
    sharpness: dict[int, float] = {}

    def line_of_cameras(self):
        if self.cameras == 1:
            return "Camera", self.camera or "unknown", "By EXIF"
        return self._line("cameras")
