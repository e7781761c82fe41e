"""The bench: marks on photographs, what they read, and keeping them."""
