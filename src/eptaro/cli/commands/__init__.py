"""The commands, a module for each kind."""
