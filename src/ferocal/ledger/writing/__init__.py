"""What writes the ledger: runs, batches, marks, notes, noise floors, merges."""
