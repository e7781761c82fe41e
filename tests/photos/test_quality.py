"""Light and blur against pictures made with known ones."""

import unittest

import cv2
import numpy as np

from dachi.photos.quality import WIDTH, blur_px, light


def edges(width: int, contrast: float, seed: int = 0) -> np.ndarray:
    """Bars of random width and direction: steps of one contrast."""
    rng = np.random.default_rng(seed)
    image = np.full((width * 3 // 4, width), 0.4)
    for _ in range(14):
        a, b = (tuple(int(v) for v in rng.uniform((0, 0), (width, width * 0.75))) for _ in range(2))
        cv2.line(image, a, b, 0.4 + contrast * rng.choice([-1, 1]), width // 24)
    return image


def photograph(grey: np.ndarray, sigma: float, noise: float = 0.0) -> np.ndarray:
    soft = cv2.GaussianBlur(grey, (0, 0), sigma) if sigma else grey
    soft = soft + np.random.default_rng(1).normal(0, noise, soft.shape)
    return np.repeat((np.clip(soft, 0, 1) * 255).astype(np.uint8)[..., None], 3, 2)


class Quality(unittest.TestCase):
    def test_blur_is_read_back(self) -> None:
        """Whatever the contrast and the size of the picture, within a quarter."""
        for width in (1000, 2000):
            for contrast in (0.1, 0.4):
                for sigma in (2.0, 3.0, 4.0):
                    image = photograph(edges(width, contrast), sigma * width / WIDTH, 0.002)
                    found = blur_px(image, (0, 0, width, width))
                    with self.subTest(width=width, contrast=contrast, sigma=sigma):
                        self.assertAlmostEqual(found / sigma, 1.0, delta=0.25)

    def test_order_and_odd_boxes(self) -> None:
        sharp, soft = (photograph(edges(1000, 0.3), s) for s in (0.0, 5.0))
        whole = (0, 0, 1000, 750)
        self.assertLess(blur_px(sharp, whole), 1.5)
        self.assertGreater(blur_px(soft, whole), 4.0)
        for box in (
            (-50, -50, 1e4, 1e4),
            (990, 740, 1000, 750),
            (2000, 2000, 3000, 3000),
            (5, 5, 5, 5),
        ):
            self.assertGreaterEqual(blur_px(sharp, box), 0.0)
        flat = np.full((300, 400, 3), 120, np.uint8)
        self.assertGreater(blur_px(flat, (0, 0, 400, 300)), 100)

    def test_light(self) -> None:
        for level in (0, 30, 128, 255):
            image = np.full((90, 120, 3), level, np.uint8)
            image[:60] = level // 3
            self.assertAlmostEqual(light(image), level / 255, delta=0.01)
