"""Anatomy, the articulated figure, and staging it before a camera."""
