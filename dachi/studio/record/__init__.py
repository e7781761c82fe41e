"""The record itself: people, copies, moving, erasing."""
