"""The store of everything recorded; knows the study's words, nothing of analysis."""
