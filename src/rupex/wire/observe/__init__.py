"""A name at a port, seen from outside, in the words of the model."""
