"""Readings and traces that come from elsewhere: files, output, people."""
