"""Photographs: taking them in, keeping them, finding things on them."""
