"""Backups: taking them, trying them, and restoring one onto an empty machine."""
