"""Tests of who may do what."""
