"""The rows of a batch: the cells they lie in, and what is made of them there."""
