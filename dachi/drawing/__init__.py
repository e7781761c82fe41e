"""Drawings as SVG text, made on the server so that screen, print and tests see the same."""
