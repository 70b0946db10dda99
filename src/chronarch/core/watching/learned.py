"""What the watch has learned of labelled builds; written by `python -m bench.watch_tuning`.

One row a feature, one column a kind: loose, tangle, fallen, shifted, not-growing, blob.
"""

from __future__ import annotations

import numpy as np

from chronarch.core.watching.judgement import Calibration, Learned

LEARNED = Learned(
    weights=np.array([
        (-1.5608, -1.4256, -2.9010, -0.7824, -0.3232, -0.9919),  # one
        (0.9385, 0.6315, 0.0201, 0.2451, 0.0168, 1.2826),  # extra
        (0.3687, 0.5439, 1.3952, -1.9089, 0.6103, -0.6854),  # much
        (-1.5898, -1.0120, -0.2194, -0.6823, -1.0450, -1.5799),  # reach
        (0.2406, -0.1064, 0.6779, -0.4809, 0.0468, 0.1076),  # extra_tall
        (3.9313, -3.0720, 7.9401, -4.2615, -0.0204, 1.0109),  # lost
        (0.4319, 0.1233, 2.6502, 0.3023, -0.0310, 1.7516),  # lost_high
        (2.6930, 1.0704, 4.0072, 2.0034, 5.4922, 5.2262),  # stunted
        (0.2027, 0.5179, 1.2659, 0.2466, -0.0740, 1.1506),  # blob
        (2.8344, 3.4641, 3.4597, 3.4230, -1.3188, -0.3114),  # others_extra
        (0.7208, 0.4802, 1.3836, 2.6459, 7.1905, 6.8165),  # others_stunted
        (0.4557, -1.9408, -1.1575, 2.3209, -0.4091, -0.7185),  # agree
        (0.1484, 1.6742, 0.6593, -0.3769, -1.1271, 0.4903),  # apart
        (0.2359, -0.0195, -0.3460, 0.6600, -0.1583, -1.0430),  # extra_fits
        (0.0274, -0.9240, -0.0622, 1.1429, -0.0793, 0.0008),  # extra_stunted
        (2.6631, 2.2023, 1.7714, 2.9896, 0.2371, -0.3938),  # rough
    ]),
    prior=np.array((-1.0, -1.0, -1.0, -1.0, -2.0, -2.0)),
    of_build=Calibration(0.881, -1.4781),
    of_bed=Calibration(3.0927, -1.5628),
    left_mm2=(1.6083, -2.0885),
)  # fmt: skip
