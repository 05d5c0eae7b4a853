"""Files and frames out."""
