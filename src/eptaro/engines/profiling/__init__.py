"""What a file seems to hold, determined from a look at its first rows."""
