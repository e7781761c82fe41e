"""Hips, angles and practice in numbers: no files, clocks, sockets or requests."""
