"""What is kept: SQLite through sqlite3, one module for each aggregate. SQL lives here."""
