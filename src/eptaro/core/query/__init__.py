"""What a question looks at."""
