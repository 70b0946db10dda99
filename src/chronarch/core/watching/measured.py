"""What the watch does on labelled builds that it was not tuned on; written by `python -m bench.watch_curve`."""

from __future__ import annotations

from chronarch.core.watching.carefulness import CatchRate

MEASURED = (
    CatchRate(0.3, 0.13795, 0.8571, 0.7619, 120.0),
    CatchRate(0.4, 0.05785, 0.8274, 0.7262, 120.0),
    CatchRate(0.5, 0.05340, 0.8274, 0.7262, 180.0),
    CatchRate(0.6, 0.04450, 0.8274, 0.7202, 180.0),
    CatchRate(0.7, 0.02225, 0.7857, 0.6905, 180.0),
    CatchRate(0.8, 0.02225, 0.7857, 0.6845, 180.0),
    CatchRate(0.85, 0.01335, 0.7679, 0.6667, 180.0),
    CatchRate(0.9, 0.01335, 0.7679, 0.6667, 180.0),
    CatchRate(0.93, 0.01335, 0.7679, 0.6667, 180.0),
    CatchRate(0.95, 0.01335, 0.7619, 0.6667, 180.0),
    CatchRate(0.97, 0.01335, 0.7440, 0.6488, 240.0),
    CatchRate(0.98, 0.01335, 0.7440, 0.6369, 240.0),
    CatchRate(0.99, 0.01335, 0.7262, 0.6369, 240.0),
    CatchRate(0.993, 0.01335, 0.7202, 0.6310, 240.0),
    CatchRate(0.995, 0.00445, 0.6964, 0.6250, 300.0),
    CatchRate(0.997, 0.00445, 0.6905, 0.6250, 300.0),
)  # fmt: skip
