"""Ways to get pictures from a camera: one module a way, and the table of which address goes which way."""
