"""Questions that judge nothing: which endpoints a line governs, what a credential is."""
