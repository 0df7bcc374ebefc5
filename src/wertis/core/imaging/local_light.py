"""Light that differs from patch to patch, taken out of what is seen by least squares."""

import numpy as np

RIDGE = 0.1  # luma squared, added to the diagonal for amounts that are not determined


def less_explained(values: np.ndarray, what: np.ndarray) -> np.ndarray:
    """Rows (K, m, P) less what the rows `what` (K, n, P) explain of them."""
    across = what.transpose(0, 2, 1)
    gram = what @ across + 1e-3 * np.eye(what.shape[1], dtype=np.float32)
    return np.asarray(values - np.linalg.solve(gram, what @ values.transpose(0, 2, 1)).transpose(0, 2, 1) @ what)


def without_light(light: np.ndarray, seen: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Amounts (K, m) of light, by weighted least squares, and what is left (K, P) of what was seen."""
    weighted = light * weights[:, None]
    gram = weighted @ light.transpose(0, 2, 1) + np.eye(light.shape[1], dtype=np.float32) * np.float32(RIDGE)
    amounts = np.linalg.solve(gram, weighted @ seen[..., None])[..., 0]
    return amounts, seen - (amounts[:, None] @ light)[:, 0]
