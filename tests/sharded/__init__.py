"""Books in shards."""
