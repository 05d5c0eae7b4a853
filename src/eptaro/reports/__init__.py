"""Pages and workbooks that are sent on."""
