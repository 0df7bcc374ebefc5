"""The yardstick for tracking: python lucas_kanade.py CORNERS.npy OUT.npy FRAME... follows corners (4, 2) from frame to frame with OpenCV alone."""

import itertools
import sys
from pathlib import Path

import cv2
import numpy as np


def lucas_kanade(files: list[Path], corners: np.ndarray) -> np.ndarray:
    """Frame to frame: good features, pyramidal Lucas-Kanade, robust homography; corners (n, 4, 2)."""
    pictures = [cv2.imread(str(f), cv2.IMREAD_GRAYSCALE) for f in files]
    chain, out = np.eye(3), [corners]
    for a, b in itertools.pairwise(pictures):
        inside = np.zeros(a.shape, np.uint8)
        cv2.fillPoly(inside, [np.round(out[-1] - 0.5).astype(np.int32)], 255)
        p = cv2.goodFeaturesToTrack(a, 400, .005, 7, mask=inside)
        q, ok, _ = cv2.calcOpticalFlowPyrLK(a, b, p, None, winSize=(21, 21), maxLevel=4)
        good = ok[:, 0] == 1
        step, _ = cv2.findHomography(p[good], q[good], cv2.USAC_MAGSAC, 1.0)
        chain = step @ chain
        out.append(cv2.perspectiveTransform(corners[None] - 0.5, chain)[0] + 0.5)
    return np.array(out)


if __name__ == "__main__":
    np.save(sys.argv[2], lucas_kanade([Path(f) for f in sys.argv[3:]], np.load(sys.argv[1])))
