"""What a person is told when something cannot be done."""

from __future__ import annotations


class Told(Exception):
    """Base of every error whose message is said to the person it concerns.

    The message is plain words without what only a log should hold.
    """
