"""Reading photos and masks of every kind, and refusing what is none with a sentence that helps."""

import struct
import subprocess
import sys
import tracemalloc
import unittest
from unittest import mock

import av
import numpy as np
import tifffile
from PIL import Image, ImageOps
from scipy.ndimage import gaussian_filter

from tests.scenes import scratch
from umbrate.core.errors import UmbrateError
from umbrate.core.features.evidence import crop, evidence
from umbrate.core.imaging import raw
from umbrate.core.imaging.decode import (
    display_orientation,
    read_facts,
    read_mask,
    read_picture,
    read_reduced,
    read_thumbnail,
    thumbnail_of,
)
from umbrate.core.imaging.video import choose_frames


def write_dng(path, orientation):
    """A small raw file: a color ramp through a mosaic of red, green, green, blue."""
    h, w = 96, 128
    v, u = np.mgrid[0:h, 0:w]
    rgb = np.stack([0.1 + 0.4 * u / w, 0.1 + 0.4 * v / h, 0.2 + 0 * u], -1)
    mosaic = np.empty((h, w))
    for y, x, c in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        mosaic[y::2, x::2] = rgb[y::2, x::2, c]
    one = (1, 1)
    identity = (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1)
    tags = [
        (50706, "B", 4, bytes([1, 4, 0, 0]), True), (50707, "B", 4, bytes([1, 1, 0, 0]), True),
        (33421, "H", 2, (2, 2), True), (33422, "B", 4, bytes([0, 1, 1, 2]), True), (50708, "s", 0, "Raw 1", True),
        (50721, "2i", 9, identity, True), (50728, "2I", 3, one * 3, True), (50717, "H", 1, 16383, True),
        (274, "H", 1, orientation, True), (271, "s", 0, "Studio", True), (272, "s", 0, "Raw 1", True),
    ]  # fmt: skip
    raw = (mosaic * 16383).astype(np.uint16)
    tifffile.imwrite(path, raw, photometric=32803, extratags=tags, metadata=None)


def write_video(path):
    """Three seconds: a texture that moves, sharp in one frame of every twelve, and rests in the last second."""
    rng = np.random.default_rng(5)
    texture = gaussian_filter(rng.normal(size=(200, 400)), 1.0) * 160 + 128
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=24)
        stream.width, stream.height, stream.pix_fmt = 160, 120, "yuv420p"
        stream.options = {"crf": "8"}
        for k in range(72):
            x = 4 * min(k, 48)
            g = texture[20:140, x : x + 160]
            g = g if k % 12 == 5 else gaussian_filter(g, 2.0)
            rgb = np.repeat(np.clip(g, 0, 255).astype(np.uint8)[..., None], 3, 2)
            for packet in stream.encode(av.VideoFrame.from_ndarray(np.ascontiguousarray(rgb), format="rgb24")):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)


class Decoding(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = scratch()
        rng = np.random.default_rng(1)
        cls.picture = rng.integers(0, 256, size=(40, 60, 3)).astype(np.uint8)

    def save(self, name, array, mode=None, **more):
        image = Image.fromarray(array)
        (image.convert(mode) if mode else image).save(self.folder / name, **more)
        return self.folder / name

    def test_orientation_is_told_and_not_applied_and_shown_upright_as_others_do(self):
        for orientation in range(1, 9):
            exif = Image.Exif()
            exif[0x0112] = orientation
            file = self.save(f"turned{orientation}.png", self.picture, exif=exif)
            facts = read_facts(file)
            self.assertEqual((facts.width, facts.height, facts.orientation), (60, 40, orientation))
            np.testing.assert_array_equal(read_picture(file), self.picture)
            with Image.open(file) as image:
                upright = np.asarray(ImageOps.exif_transpose(image))
            np.testing.assert_array_equal(display_orientation(self.picture, orientation), upright)
            small = read_thumbnail(file, 30)
            self.assertEqual(small.shape[0] > small.shape[1], upright.shape[0] > upright.shape[1])

    def test_exif_facts_and_the_focal_length_in_pixels(self):
        exif = Image.Exif()
        exif[0x010F], exif[0x0110] = "Maker", "Maker Model 5\x00"
        ifd = exif.get_ifd(0x8769)
        ifd[0x920A], ifd[0xA405], ifd[0x9003] = 50.0, 75, "2026:05:04 09:30:00"
        file = self.save("facts.jpg", self.picture, exif=exif)
        facts = read_facts(file)
        self.assertEqual((facts.camera, facts.taken), ("Maker Model 5", "2026-05-04T09:30:00"))
        self.assertAlmostEqual(facts.focal_px, 75 * np.hypot(60, 40) / np.hypot(36, 24))
        self.assertIsNone(read_facts(self.save("bare.png", self.picture)).focal_px)

    def test_exif_larger_than_any_camera_writes_or_damaged_costs_no_memory_and_no_line(self):
        def tags(kinds, size):
            rows = [struct.pack("<HHII", k, kind, size, 8) for k, kind in kinds]
            return b"II*\0" + struct.pack("<IH", 8, len(rows)) + b"".join(rows) + bytes(4)

        bombs = {
            "many.png": tags([(0x0110, 3), *((k, 3) for k in range(0x1000, 0xF000))], 100_000) + bytes(5 << 20),
            "wrong.jpg": tags([(0x0110, 7), *((k, 7) for k in range(0x1000, 0x1800))], 30_000) + bytes(30_000),
        }
        for name, exif in bombs.items():
            file = self.save(name, self.picture, exif=exif)
            tracemalloc.start()
            facts = read_facts(file)
            most = tracemalloc.get_traced_memory()[1]
            tracemalloc.stop()
            self.assertEqual(facts.width, 60, name)
            self.assertTrue(facts.model.isprintable() and len(facts.model) <= 200, facts.model)
            self.assertLess(most, 40e6, name)
            code = "import sys; from umbrate.core.imaging.decode import read_facts; read_facts(sys.argv[1])"
            done = subprocess.run([sys.executable, "-c", code, file], capture_output=True, text=True)
            self.assertEqual((done.returncode, done.stderr), (0, ""), name)

    def test_every_kind_of_picture_becomes_eight_bit_rgb(self):
        gray = self.picture[..., 0]
        deep = Image.fromarray(gray.astype(np.uint16) * 257)
        deep.save(self.folder / "deep.png")
        deep.save(self.folder / "deep.tif")
        for name in ("deep.png", "deep.tif"):
            np.testing.assert_array_equal(read_picture(self.folder / name), np.repeat(gray[..., None], 3, 2))
        rgba = np.dstack([self.picture, np.full((40, 60), 7, np.uint8)])
        np.testing.assert_array_equal(read_picture(self.save("alpha.png", rgba)), self.picture)
        file = self.save("press.tif", self.picture, "CMYK")
        self.assertLess(np.abs(read_picture(file).astype(int) - self.picture).mean(), 8)
        for name, mode in (("palette.png", "P"), ("gray.png", "L"), ("bits.png", "1")):
            self.assertEqual(read_picture(self.save(name, self.picture, mode)).shape, (40, 60, 3))

    def test_phone_files_are_unturned_again(self):
        # smooth, since the format is lossy
        v, u = np.mgrid[0:48, 0:64]
        picture = np.stack([u * 3, v * 4, 60 + 0 * u], -1).astype(np.uint8)
        for orientation in (1, 3, 6, 8):
            exif = Image.Exif()
            exif[0x0112], exif[0x0110] = orientation, "Phone 1"
            # a phone stores the sensor's picture and says how to turn it
            Image.fromarray(picture).save(self.folder / "p.heic", "HEIF", exif=exif.tobytes(), quality=95)
            facts = read_facts(self.folder / "p.heic")
            self.assertEqual((facts.width, facts.height, facts.orientation), (64, 48, orientation))
            self.assertEqual(facts.model, "Phone 1")
            got = read_picture(self.folder / "p.heic").astype(int)
            self.assertLess(np.abs(got - picture).mean(), 4)
            small = read_thumbnail(self.folder / "p.heic", 40)
            self.assertEqual(small.shape[0] > small.shape[1], orientation in (6, 8))

    def test_raw_files_are_developed_unturned(self):
        file = self.folder / "a.dng"
        for orientation in (1, 6):
            write_dng(file, orientation)
            facts = read_facts(file)
            self.assertEqual((facts.width, facts.height, facts.orientation), (128, 96, orientation))
            self.assertEqual(facts.camera, "Studio Raw 1")
            a = read_picture(file).astype(int)
            self.assertEqual(a.shape, (96, 128, 3))
            self.assertGreater(a[48, 110, 0], a[48, 15, 0] + 60)  # red grows to the right, green downwards
            self.assertGreater(a[80, 60, 1], a[15, 60, 1] + 60)
            self.assertEqual(read_thumbnail(file, 64).shape[:2], (48, 64) if orientation == 1 else (64, 48))
        for channels in (1, 4):  # of a camera without colors, and of one with four
            developed = np.arange(5 * 7 * channels, dtype=np.uint8).reshape(5, 7, channels)
            with mock.patch.object(raw, "_open") as opened:
                opened.return_value.__enter__.return_value.postprocess.return_value = developed
                got = read_picture(file)
            self.assertEqual(got.shape, (5, 7, 3))
            np.testing.assert_array_equal(got[..., 0], developed[..., 0])
        for name, data in (("zero.nef", b""), ("cut.dng", file.read_bytes()[:400]), ("text.cr2", b"nothing")):
            (self.folder / name).write_bytes(data)
            with self.assertRaises(UmbrateError) as caught:
                read_facts(self.folder / name)
                read_picture(self.folder / name)
            self.assertIn(name, str(caught.exception))

    def test_of_a_video_the_sharpest_frames_that_differ_are_kept(self):
        file = self.folder / "walk.mp4"
        write_video(file)
        kept = list(choose_frames(file, every_s=0.5))
        numbers = [f.number for f in kept]
        # 24 frames a second; every twelfth stretch has one sharp frame; the camera rests in the last second
        self.assertEqual(numbers[:4], [5, 17, 29, 41])
        self.assertEqual(len(numbers), 5)
        self.assertEqual(kept[0].picture.shape, (120, 160, 3))
        for k, f in enumerate(choose_frames(file, every_frames=24)):
            self.assertEqual((f.number // 24, f.number % 12), (k, 5))
        with self.assertRaises(UmbrateError):
            list(choose_frames(self.folder / "none.mp4"))
        (self.folder / "bad.mp4").write_bytes(b"no video" * 100)
        with self.assertRaises(UmbrateError):
            list(choose_frames(self.folder / "bad.mp4"))

    def test_damaged_files_are_refused_by_name(self):
        whole = self.save("whole.jpg", np.repeat(np.repeat(self.picture, 10, 0), 10, 1), quality=95)
        data = whole.read_bytes()
        bad = {
            "empty.jpg": (b"", "0 bytes"),
            "short.jpg": (data[: len(data) // 2], "cut short"),
            "text.jpg": (b"this is no picture at all", "cannot be read"),
            "head.png": (b"\x89PNG\r\n\x1a\n", "cannot be read"),
        }
        for name, (content, said) in bad.items():
            (self.folder / name).write_bytes(content)
            with self.assertRaises(UmbrateError) as caught:
                read_facts(self.folder / name)
                read_picture(self.folder / name)
            self.assertIn(name, str(caught.exception))
            self.assertIn(said, str(caught.exception))
        with self.assertRaises(UmbrateError) as caught:
            read_facts(self.folder / "nowhere.jpg")
        self.assertIn("not in", str(caught.exception))

    def test_masks_from_brightness_or_from_alpha(self):
        mask = np.zeros((40, 60), bool)
        mask[10:30, 20:50] = True
        white = mask.astype(np.uint8) * 255
        deep = Image.fromarray(white.astype(np.uint16) * 257)
        deep.save(self.folder / "mask16.png")
        files = [
            self.save("mask8.png", white),
            self.save("mask1.png", white, "1"),
            self.save("masktif.tif", white),
            self.folder / "mask16.png",
            self.save("maska.png", np.dstack([self.picture, white])),
            self.save("maskopaque.png", np.dstack([white, white, white, np.full_like(white, 255)])),
        ]
        for file in files:
            np.testing.assert_array_equal(read_mask(file), mask, err_msg=file.name)


class Reduced(unittest.TestCase):
    def test_a_picture_read_smaller_is_the_mean_of_its_pixels_whatever_its_file(self):
        rng, folder = np.random.default_rng(9), scratch()
        smooth = np.stack([gaussian_filter(rng.normal(size=(301, 403)), 5) for _ in range(3)], -1)
        picture = np.clip(128 + 900 * smooth, 0, 255).astype(np.uint8)
        fine = {"quality": 98, "subsampling": 0}
        for name, more, tolerance in (("a.png", {}, 1.0), ("a.tif", {}, 1.0), ("a.jpg", fine, 8.0)):
            Image.fromarray(picture).save(folder / name, **more)
            for longest, n in ((500, 0), (202, 1), (110, 2), (60, 3)):
                small, halvings = read_reduced(folder / name, longest)
                self.assertEqual((halvings, small.shape[:2]), (n, (301 >> n, 403 >> n)))
                h, w = small.shape[:2]
                mean = picture[: h << n, : w << n].reshape(h, 2**n, w, 2**n, 3).mean((1, 3))
                self.assertLess(np.abs(small - mean).max(), tolerance + n, (name, longest))
        data = (folder / "a.jpg").read_bytes()
        (folder / "cut.jpg").write_bytes(data[: len(data) * 2 // 3])
        with self.assertRaisesRegex(UmbrateError, "cut.jpg is damaged"):
            read_reduced(folder / "cut.jpg", 60)

    def test_thumbnails_stand_upright(self):
        picture = np.zeros((60, 90, 3), np.uint8)
        picture[:30] = 255
        small = thumbnail_of(picture, 6, 30)  # turned to the right to be upright: what was above is at the right
        self.assertEqual(small.shape[:2], (30, 20))
        self.assertGreater(int(small[:, 15:].min()), int(small[:, :5].max()))


class SoftEvidence(unittest.TestCase):
    def scene(self, seed):
        rng = np.random.default_rng(seed)
        g = sum(gaussian_filter(rng.normal(size=(900, 1300)), s) * s for s in (1.0, 3.0, 9.0))
        return np.repeat(np.clip(128 + 30 * g, 0, 255).astype(np.uint8)[..., None], 3, 2)

    def test_the_same_spot_is_found_in_a_photo_moved_and_blurred(self):
        for seed in range(4):
            world = self.scene(seed)
            dx, dy = np.random.default_rng(seed).integers(-80, 80, 2)
            a, b = world[100:800, 120:1100], world[100 + dy : 800 + dy, 120 + dx : 1100 + dx]
            soft = gaussian_filter(a, (2, 2, 0))
            left, right, (here, there), sure = evidence(soft, b, 120)
            self.assertLess(np.hypot(here[0] - dx - there[0], here[1] - dy - there[1]), 6)
            self.assertTrue(sure)
            self.assertEqual(left.shape, (120, 120, 3))
            self.assertEqual(right.shape, (120, 120, 3))

    def test_what_is_not_in_both_is_not_said_to_be_the_same(self):
        # another scene; and one plain edge, which is as like to any other edge as can be
        self.assertFalse(evidence(self.scene(3)[:700, :980], self.scene(4)[:700, :980], 120)[3])
        edge = np.full((700, 980, 3), 60, np.uint8)
        edge[np.add.outer(np.arange(700), 0.2 * np.arange(980)) > 420] = 200
        self.assertFalse(evidence(gaussian_filter(edge, (2, 2, 0)), edge, 120)[3])

    def test_it_looks_inside_the_mask_and_at_known_sightings(self):
        world = self.scene(7)
        a, b = world[:700, :980], world[20:720, 30:1010]
        mask = np.zeros((700, 980), bool)
        mask[300:600, 500:900] = True
        _, _, (here, _), _ = evidence(a, b, 100, mask)
        self.assertTrue(mask[here[1], here[0]])
        shared = np.array([[[600.4, 400.0], [570.4, 380.0]], [[20.0, 30.0], [5.0, 9.0]]])
        _, _, spots, sure = evidence(a, b, 100, mask, shared)
        self.assertEqual((spots, sure), (((600, 400), (570, 380)), True))
        # a crop at the edge is moved inside, as large as asked for
        self.assertEqual(crop(a, (3, 699), 100).shape, (100, 100, 3))
