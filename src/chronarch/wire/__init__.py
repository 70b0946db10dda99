"""Pydantic models of all that crosses a process boundary."""
