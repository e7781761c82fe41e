"""From marks on a photograph to angles with their uncertainty."""
