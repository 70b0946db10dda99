"""Reading G-code: its words, and what a whole file says."""

from chronarch.core.gcode.analysis import Analysis, Layer, analyse
from chronarch.core.gcode.plan import Mark, Plan
from chronarch.core.gcode.words import command_of, parse_words

__all__ = ["Analysis", "Layer", "Mark", "Plan", "analyse", "command_of", "parse_words"]
