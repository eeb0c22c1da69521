"""Rankings: who is first, how surely, and what that depends on."""
