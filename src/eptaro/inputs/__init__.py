"""Reading files and frames; dates are read strictly."""
