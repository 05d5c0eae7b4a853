"""One plain sentence with the answer of each question; `headline` is where to begin."""
