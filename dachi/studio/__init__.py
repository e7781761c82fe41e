"""What the program does, without the web: takes ``Work``, returns types."""
