"""Files and frames in; dates read strictly."""
