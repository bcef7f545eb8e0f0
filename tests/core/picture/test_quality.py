"""SSIM and PSNR against another implementation and published values; where print is."""

import unittest

import cv2
import numpy as np
from skimage.metrics import peak_signal_noise_ratio, structural_similarity

from kettle_core.errors import PictureError
from kettle_core.picture.quality import QualityMeter, finest_blocks, psnr_db, ssim_map

RNG = np.random.default_rng(5)


def scene():
    """Broad shapes, and a strip of small print."""
    picture = np.full((180, 320), 200, np.uint8)
    cv2.circle(picture, (80, 110), 50, 90, -1)
    for line in range(3):
        words = "gutter 4.5 creep 0.3 trim 3 fold"
        cv2.putText(picture, words, (120, 30 + 12 * line), cv2.FONT_HERSHEY_PLAIN, 0.8, 40)
    return picture


class Measures(unittest.TestCase):
    def distorted(self):
        picture = scene()
        noisy = picture + RNG.normal(0, 9, picture.shape)
        yield "noise", np.clip(noisy, 0, 255).astype(np.uint8)
        yield "blur", cv2.GaussianBlur(picture, (0, 0), 1.4)
        yield "darker", (picture * 0.8).astype(np.uint8)
        _, jpeg = cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, 20])
        yield "blocks", cv2.imdecode(jpeg, cv2.IMREAD_GRAYSCALE)

    def test_they_are_those_of_another_implementation(self):
        picture = scene()
        for name, other in self.distorted():
            with self.subTest(name):
                _, theirs = structural_similarity(
                    picture, other, gaussian_weights=True, sigma=1.5,
                    use_sample_covariance=False, data_range=255, full=True,
                )  # fmt: skip
                np.testing.assert_allclose(ssim_map(picture, other), theirs, atol=2e-4)
                db = peak_signal_noise_ratio(picture, other, data_range=255)
                self.assertAlmostEqual(psnr_db(picture, other), db, 4)

    def test_flat_pictures_have_the_value_of_the_published_formula(self):
        # Without structure the luminance term is all (Wang 2004, eq. 6).
        a, b, c1 = 100.0, 150.0, (0.01 * 255) ** 2
        flat = np.full((32, 32), 100, np.uint8), np.full((32, 32), 150, np.uint8)
        wanted = (2 * a * b + c1) / (a * a + b * b + c1)
        np.testing.assert_allclose(ssim_map(*flat), wanted, atol=1e-4)

    def test_equal_pictures_are_1_and_100_db_and_others_less_either_way_round(self):
        picture = scene()
        self.assertEqual((float(ssim_map(picture, picture).min()), psnr_db(picture, picture)),
                         (1.0, 100.0))  # fmt: skip
        for name, other in self.distorted():
            with self.subTest(name):
                ours, theirs = ssim_map(picture, other), ssim_map(other, picture)
                np.testing.assert_allclose(ours, theirs, atol=1e-5)
                self.assertLess(float(ours.mean()), 0.999)

    def test_the_finest_blocks_are_those_with_print(self):
        found = finest_blocks(scene())
        rows, columns = np.nonzero(found)
        self.assertTrue(np.all(rows < 5) and np.all(columns >= 6), (rows, columns))
        self.assertEqual(int(found.sum()), round(11 * 20 * 0.1))

    def test_print_that_is_blurred_counts_where_print_is(self):
        picture = scene()
        soft = picture.copy()
        soft[:64, 96:] = cv2.GaussianBlur(picture, (0, 0), 1.5)[:64, 96:]
        meter = QualityMeter()
        for other in (picture, soft):
            meter.take(picture, other)
        read = meter.read()
        self.assertLess(read.ssim_fine, read.ssim - 0.1)
        self.assertLess(read.ssim_worst, read.ssim)
        self.assertEqual(read.psnr_worst_db, psnr_db(picture, soft))

    def test_planes_that_do_not_fit_are_refused(self):
        plane = np.zeros((20, 20), np.uint8)
        for other in (np.zeros((20, 21), np.uint8), np.zeros((4, 4), np.uint8)):
            with self.assertRaisesRegex(PictureError, "Two planes of one shape"):
                ssim_map(plane if other.shape[0] == 20 else other, other)
        with self.assertRaisesRegex(PictureError, "No frame"):
            QualityMeter().read()
