"""What is said of a result: one module per question makes a document, a list of blocks."""
