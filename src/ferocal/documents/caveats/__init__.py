"""What caveats say: one entry for each kind, and how many become one sentence."""
