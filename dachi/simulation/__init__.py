"""Simulated stand-ins for things a studio has: a camera, an inclinometer, a mail box."""
