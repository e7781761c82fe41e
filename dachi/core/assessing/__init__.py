"""What an assessment may photograph, and in which order."""
