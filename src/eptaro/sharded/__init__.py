"""Books in shards, and queries of them."""
