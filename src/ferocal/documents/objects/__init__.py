"""What commands print with ``--json``: an object for each, with types and meanings."""
