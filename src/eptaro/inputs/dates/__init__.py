"""Reading a column of dates strictly: by its type, by rule, or not at all."""
