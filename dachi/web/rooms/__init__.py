"""One blueprint for each stage of the work."""
