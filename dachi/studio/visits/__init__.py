"""A visit: its sheet, photographs coming in, and what they show."""
