"""What a reading can find fault with: the rows of its tables of faults."""

R_LAID, R_WENT, R_NOZZLE, R_BED, R_CHAMBER, R_COLD, R_UNHOMED, R_INCHES = 0, 6, 12, 13, 14, 15, 16, 17
"""R_LAID and R_WENT: six each, x below, y below, z below, x above, y above, z above."""
RULES = 18
