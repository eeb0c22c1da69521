"""Units, names and pieces of sentences that every other layer uses; imports nothing of Ferocal."""
