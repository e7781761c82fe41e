"""Practice between visits: weeks, sessions, proposals, cautions."""
