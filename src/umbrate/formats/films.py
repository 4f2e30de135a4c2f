"""Turning pictures as MP4 (H.264) or GIF."""

from fractions import Fraction

import numpy as np
from PIL import Image

from ..core.later import Later
from .files import CLOSED, written_aside

av = Later("av")
GIF_RATE = 20  #: pictures a second of a GIF: browsers slow faster ones down


def write_film(path, frames, count, rate, gate=CLOSED):
    """Write pictures as a film in the format of the file's ending, .mp4 or .gif; a GIF goes on for ever.

    Parameters
    ----------
    path : path
    frames : iterable of (h, w, 3) uint8, of even width and height
    count : int
        How many there are.
    rate : int
        Pictures a second.
    gate : Gate
    """
    with written_aside(path, gate) as temporary:
        if path.suffix.lower() == ".gif":
            _gif(temporary, frames, rate)
        else:
            _mp4(temporary, frames, rate)


def _mp4(path, frames, rate):
    with av.open(str(path), "w", format="mp4", options={"movflags": "faststart"}) as out:
        stream = None
        for k, picture in enumerate(frames):
            if stream is None:
                stream = out.add_stream("libx264", rate=rate, options={"crf": "18", "preset": "medium"})
                stream.height, stream.width = picture.shape[:2]
                stream.pix_fmt = "yuv420p"
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(picture), format="rgb24")
            frame.pts, frame.time_base = k, Fraction(1, rate)
            for packet in stream.encode(frame):
                out.mux(packet)
        for packet in stream.encode():
            out.mux(packet)


def _gif(path, frames, rate):
    colors, out = None, []
    for picture in frames:
        image = Image.fromarray(picture)
        if colors is None:  # of one table, so that nothing flickers
            colors = image.quantize(256, method=Image.Quantize.MEDIANCUT)
        out.append(image.quantize(palette=colors, dither=Image.Dither.NONE))
    out[0].save(path, "GIF", save_all=True, append_images=out[1:], duration=round(1000 / rate), loop=0)
