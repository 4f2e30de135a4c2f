"""Two short tones, for a good photo and a bad one: heard while nobody looks at the screen."""

import math
import struct
import tempfile
import wave
from pathlib import Path

from PyQt6.QtCore import QUrl
from PyQt6.QtWidgets import QApplication

RATE = 22_050
#: (frequency, seconds) of the notes: up for good, down and longer for bad
GOOD, BAD = ((660, 0.07), (990, 0.09)), ((330, 0.14), (220, 0.22))


def write_tones(file, notes):
    """Write notes as a WAV file, each faded in and out so that it does not click."""
    with wave.open(str(file), "wb") as w:
        w.setnchannels(1)
        w.setsampwidth(2)
        w.setframerate(RATE)
        for frequency, seconds in notes:
            n = int(RATE * seconds)
            loud = (9000 * min(1, k / 200, (n - k) / 400) for k in range(n))
            turn = 2 * math.pi * frequency / RATE
            w.writeframes(b"".join(struct.pack("<h", int(a * math.sin(turn * k))) for k, a in enumerate(loud)))


class Sounds:
    """Plays them; by the desktop's bell where there is no sound."""

    def __init__(self):
        self._effects, self._folder = {}, None

    def play(self, good):
        """Play the one for a good photo, or that for a bad one."""
        effect = self._effect(good)
        if effect is None:
            QApplication.beep()
        else:
            effect.play()

    def _effect(self, good):
        if good not in self._effects:
            self._effects[good] = None
            try:
                from PyQt6.QtMultimedia import QMediaDevices, QSoundEffect
            except ImportError:
                return None
            if QMediaDevices.defaultAudioOutput().isNull():
                return None
            self._folder = self._folder or tempfile.TemporaryDirectory(prefix="umbrate-")
            file = Path(self._folder.name) / f"{'good' if good else 'bad'}.wav"
            write_tones(file, GOOD if good else BAD)
            effect = QSoundEffect()
            effect.setSource(QUrl.fromLocalFile(str(file)))
            self._effects[good] = effect
        return self._effects[good]
