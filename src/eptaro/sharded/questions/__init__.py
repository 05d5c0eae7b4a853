"""Questions of a book in shards: each shard answers for its groups."""
