"""What the watch has learned of labelled builds; written by `python -m bench.watch_tuning`.

One row a feature, one column a kind: loose, tangle, fallen, shifted, not-growing, blob.
"""

from __future__ import annotations

import numpy as np

from chronarch.core.watching.judgement import Calibration, Learned

LEARNED = Learned(
    weights=np.array([
        (-1.5256, -1.4427, -2.8947, -0.8445, -0.4878, -1.0450),  # one
        (0.9213, 0.7431, -0.0262, 0.0981, -0.0254, 1.1896),  # extra
        (0.3068, 0.4112, 1.5134, -2.3938, 0.4865, -0.7899),  # much
        (-1.5732, -1.0188, -0.3807, -0.3208, -0.9872, -1.6044),  # reach
        (0.1562, -0.2155, 0.6841, -0.2932, 0.0598, 0.0824),  # extra_tall
        (3.1768, -2.7953, 8.3051, -4.1598, 0.0959, 1.3216),  # lost
        (0.0835, -0.2116, 2.0914, 0.3338, 0.0846, 3.0517),  # lost_high
        (2.0871, 2.8536, 4.2532, 1.7907, 5.3978, 4.8663),  # stunted
        (0.1831, 0.5241, 1.2229, 0.2503, -0.1059, 1.1273),  # blob
        (3.1980, 3.5872, 3.6389, 3.6589, -1.1356, -0.2412),  # others_extra
        (0.0489, -0.0791, 0.8210, 3.7203, 7.0462, 6.4134),  # others_stunted
        (-0.2007, -1.8646, -1.5225, 1.6973, -0.5214, -0.8662),  # agree
        (0.2004, 1.6517, 0.7440, -0.5804, -1.1337, 0.3910),  # apart
        (0.2934, -0.0069, -0.3378, 0.6329, -0.4229, -1.2114),  # extra_fits
        (0.1533, 0.0856, -0.6824, 0.6065, -0.1819, -0.1324),  # extra_stunted
        (2.7083, 2.1427, 1.7495, 3.1531, 0.2921, -0.1861),  # rough
    ]),
    prior=np.array((-1.0, -1.0, -1.0, -1.0, -2.0, -2.0)),
    of_build=Calibration(0.9312, -1.5772),
    of_bed=Calibration(3.0927, -1.5628),
    left_mm2=(1.6083, -2.0885),
)  # fmt: skip
