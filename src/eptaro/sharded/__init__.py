"""Books that are folded in shards, and questions of them."""
