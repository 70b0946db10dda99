"""Chronarch runs a print shop's fleet of networked 3D printers, on one time line."""

__version__ = "0.1.0"
