"""Reading photos and masks of every kind, and refusing what is none with a sentence that helps."""

import unittest

import numpy as np
from PIL import Image, ImageOps

from tests.scenes import scratch
from umbrate.core.errors import UmbrateError
from umbrate.core.imaging.decode import display_orientation, read_facts, read_mask, read_picture, read_thumbnail


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
