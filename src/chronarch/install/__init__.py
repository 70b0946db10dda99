"""Putting Chronarch in place on a shop's computer, and taking it away again."""
