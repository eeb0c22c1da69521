"""Writers: a document as text in a terminal, a page, Markdown, figures; and JSON."""
