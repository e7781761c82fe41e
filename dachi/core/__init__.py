"""Hips in numbers. Nothing in here knows of files, clocks, sockets or requests."""
