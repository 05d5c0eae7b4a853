"""The columns of a batch: codes to group by, numbers to measure, and what formulas make of them."""
