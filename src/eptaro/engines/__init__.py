"""The fold: in memory or streamed, here; on other engines elsewhere."""
