"""One host judged: what is collected of it, the places and controls, the score; from its files, from outside, or both."""
