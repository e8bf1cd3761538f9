"""The normal distribution over arrays: two functions, so that nobody has to import a library of thousands for them.

Both are checked in the tests against the standard library, which computes them one number at a time.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

# Wichura, "Algorithm AS 241: the percentage points of the normal distribution", Applied Statistics 37, 1988: numerator and
# denominator in the middle, on the flanks and in the far tails; accurate to about one part in 10^16.
_MIDDLE = (
    (2.5090809287301226727e3, 3.3430575583588128105e4, 6.7265770927008700853e4, 4.5921953931549871457e4,
     1.3731693765509461125e4, 1.9715909503065514427e3, 1.3314166789178437745e2, 3.3871328727963666080e0),
    (5.2264952788528545610e3, 2.8729085735721942674e4, 3.9307895800092710610e4, 2.1213794301586595867e4,
     5.3941960214247511077e3, 6.8718700749205790830e2, 4.2313330701600911252e1, 1.0),
)  # fmt: skip
_FLANK = (
    (7.74545014278341407640e-4, 2.27238449892691845833e-2, 2.41780725177450611770e-1, 1.27045825245236838258e0,
     3.64784832476320460504e0, 5.76949722146069140550e0, 4.63033784615654529590e0, 1.42343711074968357734e0),
    (1.05075007164441684324e-9, 5.47593808499534494600e-4, 1.51986665636164571966e-2, 1.48103976427480074590e-1,
     6.89767334985100004550e-1, 1.67638483018380384940e0, 2.05319162663775882187e0, 1.0),
)  # fmt: skip
_TAIL = (
    (2.01033439929228813265e-7, 2.71155556874348757815e-5, 1.24266094738807843860e-3, 2.65321895265761230930e-2,
     2.96560571828504891230e-1, 1.78482653991729133580e0, 5.46378491116411436990e0, 6.65790464350110377720e0),
    (2.04426310338993978564e-15, 1.42151175831644588870e-7, 1.84631831751005468180e-5, 7.86869131145613259100e-4,
     1.48753612908506148525e-2, 1.36929880922735805310e-1, 5.99832206555887937690e-1, 1.0),
)  # fmt: skip
_FAR_BELOW = -30.0
"""From here down the chance itself is too small for a number, and the series takes its place."""


def _ratio(forms: tuple[tuple[float, ...], tuple[float, ...]], at: Floats) -> Floats:
    above, below = forms
    return np.asarray(np.polyval(above, at) / np.polyval(below, at))


def inverse(chance: Floats) -> Floats:
    """The standard normal numbers that are not exceeded with that *chance* (between 0 and 1, neither of them reached)."""
    off = chance - 0.5
    found = off * _ratio(_MIDDLE, 0.180625 - off * off)
    outside = np.abs(off) > 0.425
    if outside.any():
        p, side = chance[outside], np.sign(off[outside])
        root = np.sqrt(-np.log(np.minimum(p, 1.0 - p)))
        far = root > 5.0
        size = _ratio(_FLANK, root - 1.6)
        size[far] = _ratio(_TAIL, root[far] - 5.0)
        found[outside] = side * size
    return found


def _log_chance(value: float) -> float:
    if value > _FAR_BELOW:
        return math.log(0.5 * math.erfc(-value / math.sqrt(2.0)))
    square = 1.0 / (value * value)  # the asymptotic series; its fourth term is below 1e-10 here
    return -0.5 * value * value - math.log(-value * math.sqrt(2.0 * math.pi)) + math.log1p(-square * (1 - 3 * square))


log_chance: Any = np.vectorize(_log_chance, otypes=[float])
"""The logarithm of the chance that a standard normal number is below each of *values*."""
