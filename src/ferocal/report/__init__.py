"""Tables, figures and documents from results of analysis; never reads the ledger."""
