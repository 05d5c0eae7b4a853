"""Writing files, frames and databases."""
