"""Measures of how far a forecast is off."""

import math
from collections.abc import Sequence


def root_mean_square(errors: Sequence[float]) -> float:
    """The root mean square of some errors; 0 for none."""
    return math.sqrt(sum(error * error for error in errors) / len(errors)) if errors else 0.0
