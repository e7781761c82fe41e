"""Poses, drills and rules as data, read and validated into types."""
