"""Dachi: hip range from photographs, for flexibility coaches."""

__version__ = "0.1.0"
