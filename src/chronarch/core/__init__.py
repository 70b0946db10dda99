"""The computation: no I/O, no clock of its own, no framework."""
