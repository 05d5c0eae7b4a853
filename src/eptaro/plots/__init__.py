"""Pictures, by Matplotlib."""
