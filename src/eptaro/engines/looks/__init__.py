"""What a file seems to hold, told from a look at its first rows."""
